package faithfulcourier.web;

import faithfulcourier.wire.Encoding;
import java.util.List;
import java.util.Locale;

/** Are media types, and how the one of an answer is chosen. */
final class Media {
  static final String CBOR = Encoding.CBOR.mediaType();
  static final String JSON = Encoding.JSON.mediaType();
  static final String CBOR_SEQ = "application/cbor-seq";
  static final String JSON_SEQ = "application/json-seq";
  static final String PROBLEM = "application/problem+json";

  private Media() {}

  /** Is a media type in lower case, without parameters. */
  static String bare(String header) {
    if (header == null) {
      return "";
    }
    int semicolon = header.indexOf(';');
    return (semicolon < 0 ? header : header.substring(0, semicolon)).strip().toLowerCase(Locale.ROOT);
  }

  static boolean isCbor(String type) {
    return type.equals(CBOR) || type.equals(CBOR_SEQ);
  }

  static Encoding encoding(String type) {
    return isCbor(type) ? Encoding.CBOR : Encoding.JSON;
  }

  static String of(Encoding encoding, boolean stream) {
    if (stream) {
      return encoding == Encoding.CBOR ? CBOR_SEQ : JSON_SEQ;
    }
    return encoding.mediaType();
  }

  /**
   * Chooses the media type of an answer by Accept (RFC 9110, section 12.5.1): of two alike that in the encoding of the
   * request, or JSON. It is empty where neither is acceptable.
   */
  static String preferred(List<String> accept, String request, boolean stream) {
    String cbor = of(Encoding.CBOR, stream);
    String json = of(Encoding.JSON, stream);
    String fallback = isCbor(request) ? cbor : json;
    if (accept.isEmpty() || (accept.size() == 1 && accept.get(0).equals(fallback))) {
      return fallback;
    }
    double cborQuality = quality(accept, cbor);
    double jsonQuality = quality(accept, json);
    if (cborQuality == 0 && jsonQuality == 0) {
      return "";
    }
    return cborQuality > jsonQuality ? cbor : jsonQuality > cborQuality ? json : fallback;
  }

  private static double quality(List<String> accept, String wanted) {
    double best = 0;
    int bestRank = -1;
    for (String header : accept) {
      for (String part : header.split(",", -1)) {
        String[] pieces = part.split(";", -1);
        String pattern = pieces[0].strip().toLowerCase(Locale.ROOT);
        int rank = pattern.equals(wanted) ? 2 : pattern.equals("application/*") ? 1 : pattern.equals("*/*") ? 0 : -1;
        if (rank > bestRank) {
          best = parameterQ(pieces);
          bestRank = rank;
        }
      }
    }
    return best;
  }

  /** Is the parameter q of a header's part, or 1. */
  static double parameterQ(String[] pieces) {
    for (int i = 1; i < pieces.length; i++) {
      String parameter = pieces[i].strip().toLowerCase(Locale.ROOT);
      if (parameter.startsWith("q=")) {
        try {
          return Double.parseDouble(parameter.substring(2));
        } catch (NumberFormatException e) {
          return 1;
        }
      }
    }
    return 1;
  }
}
