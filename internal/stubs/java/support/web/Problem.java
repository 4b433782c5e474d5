package faithfulcourier.web;

import faithfulcourier.wire.CborReader;
import faithfulcourier.wire.CborWriter;
import faithfulcourier.wire.Codec;
import faithfulcourier.wire.Fields;
import faithfulcourier.wire.JsonReader;
import faithfulcourier.wire.JsonWriter;
import faithfulcourier.wire.Violation;
import faithfulcourier.wire.Violations;
import java.util.ArrayList;
import java.util.List;

/**
 * Are problem details (RFC 9457).
 *
 * @param type a URI that tells which problem it is
 * @param title what is always the same about it
 * @param status HTTP status
 * @param detail what is the matter this time, or an empty text
 * @param instance a URI of this occurrence, or an empty text
 * @param violations of a request that is refused
 * @param fields of a declared error, as JSON, or null
 */
record Problem(
    String type,
    String title,
    int status,
    String detail,
    String instance,
    List<Violation> violations,
    String fields) {
  static final Codec<Problem> CODEC = new Coding();
  static final String BLANK = "about:blank";

  static Problem of(String type, String title, int status, String detail) {
    return new Problem(type, title, status, detail, "", List.of(), null);
  }

  Problem with(List<Violation> found) {
    return new Problem(type, title, status, detail, instance, found, fields);
  }

  /** Is what follows "/-/errors/" in the type, or all of it. */
  String name() {
    int at = type.indexOf("/-/errors/");
    return at < 0 ? type : type.substring(at + "/-/errors/".length());
  }

  String text() {
    StringBuilder b = new StringBuilder().append(status).append(' ').append(title);
    if (!detail.isEmpty()) {
      b.append(": ").append(detail);
    }
    violations.forEach(v -> b.append("; ").append((v.pointer() + " " + v.detail()).strip()));
    return b.toString();
  }

  private static final class Coding extends Codec<Problem> {
    private static final Fields FIELDS =
        new Fields(
            "problem details",
            new int[] {1, 2, 3, 4, 5, 6, 7},
            "type",
            "title",
            "status",
            "detail",
            "instance",
            "errors",
            "error");
    private static final Fields VIOLATION =
        new Fields("a violation", new int[] {1, 2, 3}, "pointer", "detail", "in");

    @Override
    protected void writeCbor(CborWriter w, Problem p) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected Problem readCbor(CborReader r) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected void writeJson(JsonWriter w, Problem p) {
      int start = w.beginMessage();
      w.field(FIELDS, 0);
      w.text(p.type);
      w.field(FIELDS, 1);
      w.text(p.title);
      w.field(FIELDS, 2);
      w.int32(p.status);
      if (!p.detail.isEmpty()) {
        w.field(FIELDS, 3);
        w.text(p.detail);
      }
      if (!p.instance.isEmpty()) {
        w.field(FIELDS, 4);
        w.text(p.instance);
      }
      if (!p.violations.isEmpty()) {
        w.field(FIELDS, 5);
        w.list(p.violations, Coding::violation);
      }
      if (p.fields != null) {
        w.field(FIELDS, 6);
        w.rawValue(p.fields.getBytes(java.nio.charset.StandardCharsets.UTF_8));
      }
      w.endMessage(start, null, FIELDS);
    }

    private static void violation(JsonWriter w, Violation v) {
      int start = w.beginMessage();
      w.field(VIOLATION, 0);
      w.text(v.pointer());
      w.field(VIOLATION, 1);
      w.text(v.detail());
      if (!v.in().isEmpty()) {
        w.field(VIOLATION, 2);
        w.text(v.in());
      }
      w.endMessage(start, null, VIOLATION);
    }

    @Override
    protected Problem readJson(JsonReader r) {
      String[] texts = {"", "", "", ""};
      int status = 0;
      List<Violation> violations = new ArrayList<>();
      String fields = null;
      r.openMessage(FIELDS);
      for (int i = r.member(FIELDS, JsonReader.END); i != JsonReader.END; i = r.member(FIELDS, JsonReader.UNLISTED)) {
        if (i == JsonReader.UNLISTED || i == 6) {
          String raw = new String(r.rawValue(), java.nio.charset.StandardCharsets.UTF_8);
          fields = i == 6 ? raw : fields;
        } else if (!r.isNull()) {
          switch (i) {
            case 0 -> texts[0] = r.text();
            case 1 -> texts[1] = r.text();
            case 2 -> status = r.int32();
            case 3 -> texts[2] = r.text();
            case 4 -> texts[3] = r.text();
            default -> violations = r.list(Coding::readViolation);
          }
        }
      }
      return new Problem(texts[0], texts[1], status, texts[2], texts[3], List.copyOf(violations), fields);
    }

    private static Violation readViolation(JsonReader r) {
      String[] texts = {"", "", ""};
      r.openMessage(VIOLATION);
      for (int i = r.member(VIOLATION, JsonReader.END); i != JsonReader.END;
          i = r.member(VIOLATION, JsonReader.UNLISTED)) {
        if (i == JsonReader.UNLISTED) {
          r.rawValue();
        } else if (!r.isNull()) {
          texts[i] = r.text();
        }
      }
      return new Violation(texts[0], texts[1], texts[2]);
    }

    @Override
    protected void violations(Violations v, Problem value) {}
  }
}
