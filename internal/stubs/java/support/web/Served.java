package faithfulcourier.web;

import faithfulcourier.wire.Any;
import java.io.ByteArrayInputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.zip.GZIPInputStream;

/**
 * Is a mount: it serves calls, and speaks for all of them below "/-/". Give it to {@link HttpServerMount}, or in a servlet
 * container to what the option <code>servlet</code> adds.
 */
public final class Served {
  private static final System.Logger LOGGER = System.getLogger(Served.class.getPackageName());

  final Definitions definitions;
  final List<Route<?, ?, ?>> routes;
  final ServerOptions options;
  final Routes table;
  private final boolean optioned;
  private Map<String, byte[]> manual;

  // What goes on, and whether it is to end.
  private final Set<Exchange> active = ConcurrentHashMap.newKeySet();
  private final AtomicInteger count = new AtomicInteger(); // of the active ones
  private volatile boolean over;

  private Served(Definitions definitions, List<Route<?, ?, ?>> routes, ServerOptions options, boolean optioned) {
    this.definitions = definitions;
    this.routes = List.copyOf(routes);
    this.options = options;
    this.optioned = optioned;
    table = new Routes(this.routes);
  }

  /**
   * Makes a mount of routes.
   *
   * @param definitions what it says of itself
   * @param options how it serves, or null for the usual
   * @param routes its calls
   * @return the mount
   */
  public static Served of(Definitions definitions, ServerOptions options, Route<?, ?, ?>... routes) {
    return new Served(
        definitions, Arrays.asList(routes), options == null ? ServerOptions.defaults() : options, options != null);
  }

  /**
   * Joins mounts of several services into one. The options of the first apply to all.
   *
   * @param first the mount whose options apply
   * @param others mounts without options
   * @return the mount of all
   * @throws IllegalArgumentException if another mount has options, which would not be heeded
   */
  public static Served join(Served first, Served... others) {
    List<Route<?, ?, ?>> all = new ArrayList<>(first.routes);
    for (Served other : others) {
      if (other.optioned) {
        throw new IllegalArgumentException(
            "options are given to the first mount, and apply to all: make the others without");
      }
      all.addAll(other.routes);
    }
    return new Served(first.definitions, all, first.options, first.optioned);
  }

  /** Answers one request, on this thread. */
  void serve(Carrier carrier) {
    new Exchange(this, carrier).run();
  }

  /** Refuses what comes from now on. */
  void close() {
    over = true;
  }

  boolean isOver() {
    return over;
  }

  /** Begins a call, unless so many are active already. */
  boolean enter(Exchange x) {
    if (count.incrementAndGet() > options.callLimit && options.callLimit > 0) {
      count.decrementAndGet();
      return false;
    }
    return active.add(x);
  }

  void leave(Exchange x) {
    if (!active.remove(x)) {
      return;
    }
    count.decrementAndGet();
    if (over) {
      synchronized (active) {
        active.notifyAll();
      }
    }
  }

  /**
   * Ends the mount's work: "/-/state" answers 503, requests that come are refused with 503, streams end with a problem, for
   * which their handlers' threads are interrupted, and other calls are finished. Call it before the server is stopped.
   *
   * @param patience how long to wait for them
   * @return whether all are done
   * @throws InterruptedException if this thread is interrupted meanwhile
   */
  public boolean shutdown(Duration patience) throws InterruptedException {
    over = true; // before the others are looked at: a call looks whether it is so once it is among them
    List.copyOf(active).forEach(x -> Timers.work().execute(x::unavailable));
    long until = System.nanoTime() + patience.toNanos();
    synchronized (active) {
      while (!active.isEmpty()) {
        long left = (until - System.nanoTime()) / 1_000_000;
        if (left <= 0) {
          return false;
        }
        active.wait(left);
      }
    }
    return true;
  }

  /** Tells an error that the caller is not told. */
  void report(Context context, String call, Throwable error) {
    if (error instanceof InterruptedException && isOver()) {
      return; // the server was stopped while the call ran
    }
    if (options.onError == null) {
      log(call, error);
      return;
    }
    try {
      options.onError.failed(context, call, error);
    } catch (RuntimeException | Error failed) {
      log(call, error);
      log("onError", failed);
    }
  }

  private static void log(String call, Throwable error) {
    LOGGER.log(System.Logger.Level.ERROR, "the call " + call + " failed", error);
  }

  Problem problem(String name, String detail) {
    for (Definitions.Page page : Definitions.COMMON) {
      if (page.name().equals(name)) {
        return Problem.of(options.base + "/-/errors/" + name, name.replace('-', ' '), page.status(), detail);
      }
    }
    throw new IllegalArgumentException(name);
  }

  /** Are the pages of the manual by their paths; null where there is none. */
  synchronized byte[] manualPage(String name) {
    if (manual == null) {
      Map<String, byte[]> pages = new HashMap<>();
      byte[] packed = Base64.getUrlDecoder().decode(definitions.manual.replace("\n", ""));
      try (GZIPInputStream text = new GZIPInputStream(new ByteArrayInputStream(packed))) {
        Any.CODEC
            .fromJson(text.readAllBytes())
            .entries()
            .forEach((path, page) -> pages.put(path, ((String) page.value()).getBytes(StandardCharsets.UTF_8)));
      } catch (IOException e) {
        throw new UncheckedIOException("the manual", e);
      }
      manual = pages;
    }
    return manual.get(name);
  }
}
