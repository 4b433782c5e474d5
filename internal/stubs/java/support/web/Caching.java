package faithfulcourier.web;

import java.util.ArrayList;
import java.util.List;

/** Is what a call's answers say to whoever keeps answers. */
final class Caching {
  private Caching() {}

  /** Says in the headers of an answer what may be kept of it, unless the handler does. */
  static void keep(Call<?, ?, ?> call, Headers headers, boolean compresses) {
    List<String> vary = new ArrayList<>();
    if (call.answerRaw() == null) {
      vary.add("Accept");
    }
    for (List<Credential> all : call.needs()) {
      for (Credential c : all) {
        switch (c.kind()) {
          case "header" -> add(vary, c.key());
          case "cookie" -> add(vary, "Cookie");
          case "bearer", "basic" -> add(vary, "Authorization");
          default -> {}
        }
      }
    }
    for (Placed p : call.placed()) {
      if (p.in().equals("header")) {
        add(vary, p.parameter());
      } else if (p.in().equals("cookie")) {
        add(vary, "Cookie");
      }
    }
    if (call.isCompressible() && compresses) {
      vary.add("Accept-Encoding");
    }
    if (!vary.isEmpty()) {
      headers.add("Vary", String.join(", ", vary));
    }
    headers.set("Cache-Control", isPrivate(call) ? "private, no-store" : "no-store");
  }

  private static void add(List<String> vary, String header) {
    boolean there = vary.stream().anyMatch(header::equalsIgnoreCase);
    if (!there && !header.equalsIgnoreCase("If-Match") && !header.equalsIgnoreCase("If-None-Match")) {
      vary.add(canonical(header));
    }
  }

  /** Is a header's name with a capital letter at the beginning of each word. */
  static String canonical(String header) {
    StringBuilder b = new StringBuilder(header.length());
    boolean capital = true;
    for (int i = 0; i < header.length(); i++) {
      char c = header.charAt(i);
      b.append(capital ? Character.toUpperCase(c) : Character.toLowerCase(c));
      capital = c == '-';
    }
    return b.toString();
  }

  static boolean isPrivate(Call<?, ?, ?> call) {
    return call.needs().stream().anyMatch(all -> !all.isEmpty())
        || call.placed().stream().anyMatch(p -> p.in().equals("cookie"));
  }

  /** Is Cache-Control for answers that have to be asked for each time. */
  static String checked(Call<?, ?, ?> call) {
    return isPrivate(call) ? "private, no-cache" : "no-cache";
  }
}
