package conformance;

import conformance.gen.faithful.wire.Any;
import conformance.gen.faithful.wire.Codec;
import conformance.gen.faithful.wire.PayloadException;
import conformance.gen.faithful.wire.Violation;
import conformance.gen.skerry.language.Chain;
import conformance.gen.skerry.language.FootPassage;
import conformance.gen.skerry.language.Keys;
import conformance.gen.skerry.language.KeysPatch;
import conformance.gen.skerry.language.LanguageChanges;
import conformance.gen.skerry.language.More;
import conformance.gen.skerry.language.MoreOptionals;
import conformance.gen.skerry.language.MoreOptionalsPatch;
import conformance.gen.skerry.language.MorePatch;
import conformance.gen.skerry.language.NamedDefaults;
import conformance.gen.skerry.language.NamedDefaultsPatch;
import conformance.gen.skerry.language.NamedOptionals;
import conformance.gen.skerry.language.NamedOptionalsPatch;
import conformance.gen.skerry.language.NamedScalars;
import conformance.gen.skerry.language.NamedScalarsPatch;
import conformance.gen.skerry.many.Many;
import conformance.gen.skerry.shared.Leaf;
import conformance.gen.skerry.shared.LeafPatch;
import conformance.gen.skerry.vectors.Bounded;
import conformance.gen.skerry.vectors.BoundedPatch;
import conformance.gen.skerry.vectors.Broken;
import conformance.gen.skerry.vectors.Changes;
import conformance.gen.skerry.vectors.ChangesPatch;
import conformance.gen.skerry.vectors.Defaults;
import conformance.gen.skerry.vectors.DefaultsPatch;
import conformance.gen.skerry.vectors.Empty;
import conformance.gen.skerry.vectors.EmptyPatch;
import conformance.gen.skerry.vectors.Lists;
import conformance.gen.skerry.vectors.ListsPatch;
import conformance.gen.skerry.vectors.Maps;
import conformance.gen.skerry.vectors.MapsPatch;
import conformance.gen.skerry.vectors.Node;
import conformance.gen.skerry.vectors.NodePatch;
import conformance.gen.skerry.vectors.Optionals;
import conformance.gen.skerry.vectors.OptionalsPatch;
import conformance.gen.skerry.vectors.Renamed;
import conformance.gen.skerry.vectors.RenamedPatch;
import conformance.gen.skerry.vectors.Scalars;
import conformance.gen.skerry.vectors.ScalarsPatch;
import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;
import java.util.Objects;
import java.util.function.Supplier;

/** Holds the stubs against the vectors of a file, a line each, or with - against each line of the input. */
@SuppressWarnings("deprecation") // some of the messages are
public final class Vectors {
  static final Map<String, Codec<?>> CODECS =
      Map.ofEntries(
          Map.entry("Scalars", Scalars.CODEC),
          Map.entry("Optionals", Optionals.CODEC),
          Map.entry("Defaults", Defaults.CODEC),
          Map.entry("Lists", Lists.CODEC),
          Map.entry("Maps", Maps.CODEC),
          Map.entry("Node", Node.CODEC),
          Map.entry("Empty", Empty.CODEC),
          Map.entry("Bounded", Bounded.CODEC),
          Map.entry("Renamed", Renamed.CODEC),
          Map.entry("Broken", Broken.CODEC),
          Map.entry("Leaf", Leaf.CODEC),
          Map.entry("Many", Many.CODEC),
          Map.entry("Chain", Chain.CODEC),
          Map.entry("FootPassage", FootPassage.CODEC),
          Map.entry("NamedScalars", NamedScalars.CODEC),
          Map.entry("NamedOptionals", NamedOptionals.CODEC),
          Map.entry("NamedDefaults", NamedDefaults.CODEC),
          Map.entry("More", More.CODEC),
          Map.entry("MoreOptionals", MoreOptionals.CODEC),
          Map.entry("Keys", Keys.CODEC),
          Map.entry("Changes", Changes.CODEC),
          Map.entry("LanguageChanges", LanguageChanges.CODEC),
          Map.entry("ScalarsPatch", ScalarsPatch.CODEC),
          Map.entry("OptionalsPatch", OptionalsPatch.CODEC),
          Map.entry("DefaultsPatch", DefaultsPatch.CODEC),
          Map.entry("ListsPatch", ListsPatch.CODEC),
          Map.entry("MapsPatch", MapsPatch.CODEC),
          Map.entry("NodePatch", NodePatch.CODEC),
          Map.entry("BoundedPatch", BoundedPatch.CODEC),
          Map.entry("RenamedPatch", RenamedPatch.CODEC),
          Map.entry("LeafPatch", LeafPatch.CODEC),
          Map.entry("ChangesPatch", ChangesPatch.CODEC),
          Map.entry("EmptyPatch", EmptyPatch.CODEC),
          Map.entry("NamedScalarsPatch", NamedScalarsPatch.CODEC),
          Map.entry("NamedOptionalsPatch", NamedOptionalsPatch.CODEC),
          Map.entry("NamedDefaultsPatch", NamedDefaultsPatch.CODEC),
          Map.entry("MorePatch", MorePatch.CODEC),
          Map.entry("MoreOptionalsPatch", MoreOptionalsPatch.CODEC),
          Map.entry("KeysPatch", KeysPatch.CODEC));

  private Vectors() {}

  /** Is what comes of an attempt; null where it is refused. */
  static <T> T attempt(Supplier<T> act) {
    try {
      return act.get();
    } catch (PayloadException e) {
      return null;
    }
  }

  private static String text(Map<String, Any> vector, String name) {
    Any value = vector.get(name);
    return value == null ? null : (String) value.value();
  }

  /** Is what is wrong with a vector, or null. */
  private static <T> String disagreement(Codec<T> codec, Map<String, Any> v) {
    byte[] payload = HexFormat.of().parseHex(text(v, "payload"));
    boolean accepted = Boolean.TRUE.equals(v.get("accepted").value());
    T m = attempt(() -> text(v, "encoding").equals("cbor") ? codec.fromCbor(payload) : codec.fromJson(payload));
    if (m == null) {
      return accepted ? "refused" : null;
    }
    if (!accepted) {
      return "taken; the reference: " + text(v, "why");
    }
    byte[] written = attempt(() -> codec.toCbor(m));
    String cbor = written == null ? null : HexFormat.of().formatHex(written);
    if (!Objects.equals(cbor, text(v, "cbor"))) {
      return "writes " + cbor + ", not " + text(v, "cbor");
    }
    String json = attempt(() -> codec.toJson(m));
    if (!Objects.equals(json, text(v, "json"))) {
      return "writes " + json + ", not " + text(v, "json");
    }
    T again = codec.fromJson(json);
    if (!(m instanceof Throwable) && (!again.equals(m) || again.hashCode() != m.hashCode())) {
      return "does not equal what is read of what it writes";
    }
    List<Violation> found =
        codec.violations(m).stream().map(x -> new Violation(x.pointer(), x.detail())).toList();
    List<Violation> wanted =
        v.get("violations").items().stream()
            .map(x -> new Violation(text(x.entries(), "pointer"), text(x.entries(), "detail")))
            .toList();
    return found.equals(wanted) ? null : "violates " + found + ", not " + wanted;
  }

  private static String disagreement(String line) {
    Map<String, Any> v = Any.CODEC.fromJson(line).entries();
    return disagreement(CODECS.get(text(v, "message")), v);
  }

  public static void main(String[] args) throws IOException {
    if (args[0].equals("-")) {
      BufferedReader in = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
      for (String line = in.readLine(); line != null; line = in.readLine()) {
        String problem = disagreement(line);
        System.out.println(problem == null ? "null" : Any.of(problem));
      }
      return;
    }
    int bad = 0;
    int all = 0;
    for (String line : Files.readAllLines(Path.of(args[0]))) {
      all++;
      String problem = disagreement(line);
      if (problem != null && ++bad <= 10) {
        Map<String, Any> v = Any.CODEC.fromJson(line).entries();
        boolean isJson = text(v, "encoding").equals("json");
        byte[] payload = HexFormat.of().parseHex(text(v, "payload"));
        String shown = isJson ? new String(payload, StandardCharsets.UTF_8) : text(v, "payload");
        System.out.printf("%s as %s: %s%n  %s%n", text(v, "message"), text(v, "encoding"), shown, problem);
      }
    }
    System.out.println(bad == 0 ? all + " payloads agree" : bad + " of " + all + " payloads disagree");
    System.exit(bad == 0 ? 0 : 1);
  }
}
