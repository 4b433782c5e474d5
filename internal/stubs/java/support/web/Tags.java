package faithfulcourier.web;

import java.util.ArrayList;
import java.util.List;

/** Are entity-tags (RFC 9110, section 8.8.3): what tells the encodings of an answer apart comes before the last quote. */
final class Tags {
  private Tags() {}

  static boolean isTag(String text) {
    String opaque = text.startsWith("W/") ? text.substring(2) : text;
    return opaque.length() >= 2
        && opaque.startsWith("\"")
        && opaque.endsWith("\"")
        && opaque.substring(1, opaque.length() - 1).chars().allMatch(c -> c > ' ' && c != '"' && c != 0x7f);
  }

  /** Is the tag of an answer of an encoding, compressed or not. */
  static String tagged(String tag, String type, boolean compressed) {
    return tag.substring(0, tag.length() - 1) + "." + type.substring(type.indexOf('/') + 1) + (compressed ? ".gz\"" : "\"");
  }

  /** Are the tags of a list, each with what was before it in the list's text. */
  private static List<String> tags(String list) {
    List<String> found = new ArrayList<>();
    int from = 0;
    while (true) {
      int begin = list.indexOf('"', from);
      int end = begin < 0 ? -1 : list.indexOf('"', begin + 1);
      if (end < 0) {
        return found;
      }
      found.add(list.substring(from, end + 1));
      from = end + 1;
    }
  }

  /** Takes from the tags of If-Match and If-None-Match what tagged has added. */
  static String withoutEncodings(String list) {
    StringBuilder b = new StringBuilder();
    int length = 0;
    for (String tag : tags(list)) {
      length += tag.length();
      String plain = tag.substring(0, tag.length() - 1);
      String bare = plain.endsWith(".gz") ? plain.substring(0, plain.length() - 3) : plain;
      if (bare.endsWith(".cbor") || bare.endsWith(".json")) {
        plain = bare.substring(0, bare.length() - 5);
      }
      b.append(plain).append('"');
    }
    return b.append(list.substring(length)).toString();
  }

  /** Tells whether If-None-Match names the tag of an answer, weakly (RFC 9110, sections 8.8.3.2 and 13.1.2). */
  static boolean matches(List<String> header, String tag) {
    String opaque = tag.startsWith("W/") ? tag.substring(2) : tag;
    for (String list : header) {
      if (list.strip().equals("*")) {
        return true;
      }
      for (String one : tags(list)) {
        if (one.substring(one.indexOf('"')).equals(opaque)) {
          return true;
        }
      }
    }
    return false;
  }
}
