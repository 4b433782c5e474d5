package faithfulcourier.web;

import java.util.ArrayList;
import java.util.Comparator;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.SortedSet;
import java.util.TreeSet;

/** Finds the route of a request. */
final class Routes {
  private final Map<String, List<Route<?, ?, ?>>> exact = new HashMap<>(); // by path, of those without fields
  private final List<Pattern> patterns = new ArrayList<>();

  /** Is what was found: a route with the values of its path's fields, or the methods that the path has. */
  record Found(Route<?, ?, ?> route, Map<String, String> values, SortedSet<String> allow) {}

  private record Pattern(List<String> segments, Route<?, ?, ?> route) {
    int fields() {
      int n = 0;
      for (String s : segments) {
        n += s.startsWith("{") ? 1 : 0;
      }
      return n;
    }

    Map<String, String> match(String[] found) {
      if (found.length != segments.size()) {
        return null;
      }
      Map<String, String> values = new HashMap<>();
      for (int i = 0; i < found.length; i++) {
        String segment = segments.get(i);
        if (segment.startsWith("{")) {
          values.put(segment.substring(1, segment.length() - 1), found[i]);
        } else if (!segment.equals(found[i])) {
          return null;
        }
      }
      return values;
    }
  }

  Routes(List<Route<?, ?, ?>> routes) {
    for (Route<?, ?, ?> r : routes) {
      if (r.call.path().contains("{")) {
        patterns.add(new Pattern(List.of(r.call.path().substring(1).split("/", -1)), r));
      } else {
        exact.computeIfAbsent(r.call.path(), path -> new ArrayList<>()).add(r);
      }
    }
    patterns.sort(Comparator.comparingInt(Pattern::fields)); // a literal is more specific than a field
  }

  Found find(String method, String path) {
    String wanted = method.equals("HEAD") ? "GET" : method; // all of it but the body
    SortedSet<String> allow = new TreeSet<>();
    for (Route<?, ?, ?> r : exact.getOrDefault(path, List.of())) {
      if (r.call.method().equals(wanted)) {
        return new Found(r, Map.of(), allow);
      }
      allow.add(r.call.method());
    }
    if (patterns.isEmpty()) {
      return new Found(null, Map.of(), allow);
    }
    String[] segments = path.substring(1).split("/", -1);
    for (int i = 0; i < segments.length; i++) {
      String plain = Escapes.decoded(segments[i], false);
      segments[i] = plain == null ? segments[i] : plain;
    }
    for (Pattern p : patterns) {
      Map<String, String> values = p.match(segments);
      if (values == null) {
        continue;
      }
      if (p.route.call.method().equals(wanted)) {
        return new Found(p.route, values, allow);
      }
      allow.add(p.route.call.method());
    }
    return new Found(null, Map.of(), allow);
  }
}
