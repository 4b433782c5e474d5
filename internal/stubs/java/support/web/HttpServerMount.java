package faithfulcourier.web;

import com.sun.net.httpserver.HttpExchange;
import com.sun.net.httpserver.HttpHandler;
import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.InetSocketAddress;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.TimeUnit;

/**
 * Serves a mount by the JDK's own HTTP server. Calls that stream both ways need a servlet container: that server knows no
 * WebSockets.
 *
 * <p>Who makes the {@link HttpServer} themselves sets the system property <code>sun.net.httpserver.nodelay</code> to "true"
 * before anything touches that class; else each answer waits for some 40 ms.
 */
public final class HttpServerMount implements HttpHandler {
  private static final int BACKLOG = 1024; // connections that may wait, all at once; the JDK's are 50

  private final Served served;

  /**
   * Makes a handler, for a context at "/" of a server.
   *
   * @param served the mount
   */
  public HttpServerMount(Served served) {
    this.served = served;
  }

  /** Is a server that runs. */
  public static final class Running implements AutoCloseable {
    private final Served served;
    private final HttpServer server;
    private final ExecutorService executor;

    private Running(Served served, HttpServer server, ExecutorService executor) {
      this.served = served;
      this.server = server;
      this.executor = executor;
    }

    /** {@return the port that it listens at} */
    public int port() {
      return server.getAddress().getPort();
    }

    /** Stops it at once. Shut the mount down first, where its calls are to be finished. */
    @Override
    public void close() {
      served.close();
      server.stop(0);
      executor.shutdownNow();
    }
  }

  /**
   * Starts a server of a mount.
   *
   * @param served the mount
   * @param address where it listens; port 0 is any that is free
   * @return the server
   * @throws IOException if it can't listen there
   */
  public static Running start(Served served, InetSocketAddress address) throws IOException {
    if (System.getProperty("sun.net.httpserver.nodelay") == null) {
      System.setProperty("sun.net.httpserver.nodelay", "true"); // before the class is touched
    }
    ExecutorService executor = Timers.handlers();
    HttpServer server = HttpServer.create(address, BACKLOG);
    server.createContext("/", new HttpServerMount(served));
    server.setExecutor(executor);
    server.start();
    return new Running(served, server, executor);
  }

  @Override
  public void handle(HttpExchange exchange) throws IOException {
    Carried carried = new Carried(exchange);
    served.serve(carried);
    if (carried.aborted) {
      throw new IOException("the connection is given up"); // closing the exchange would look like a clean end
    }
  }

  private static final class Carried implements Carrier {
    private final HttpExchange exchange;
    private final Headers headers = new Headers();
    private boolean aborted;

    Carried(HttpExchange exchange) {
      this.exchange = exchange;
      exchange.getRequestHeaders().forEach((name, values) -> values.forEach(value -> headers.came(name, value)));
    }

    @Override
    public String method() {
      return exchange.getRequestMethod();
    }

    @Override
    public String target() {
      String target = exchange.getRequestURI().toString();
      if (!target.startsWith("/")) { // a whole URL, as proxies are sent
        int slash = target.indexOf('/', target.indexOf("//") + 2);
        return slash < 0 ? "/" : target.substring(slash);
      }
      return target;
    }

    @Override
    public Headers headers() {
      return headers;
    }

    @Override
    public long length() {
      if (headers.first("Transfer-Encoding") != null) {
        return -1;
      }
      String length = headers.first("Content-Length");
      try {
        return length == null ? 0 : Long.parseLong(length.strip());
      } catch (NumberFormatException e) {
        return -1;
      }
    }

    @Override
    public InputStream body() {
      return exchange.getRequestBody();
    }

    @Override
    public String peer() {
      InetSocketAddress address = exchange.getRemoteAddress();
      return address.getHostString() + ":" + address.getPort();
    }

    @Override
    public OutputStream begin(int status, Headers answer, long length) throws IOException {
      answer.map().forEach((name, values) -> exchange.getResponseHeaders().put(name, values));
      if (length != 0 || method().equals("HEAD") || status == 204 || status == 304) {
        boolean none = length == 0;
        exchange.sendResponseHeaders(status, none ? -1 : length < 0 ? 0 : length);
      } else {
        exchange.sendResponseHeaders(status, -1);
      }
      return exchange.getResponseBody();
    }

    @Override
    public void end() throws IOException {
      exchange.getResponseBody().close();
    }

    @Override
    public void abort() {
      aborted = true;
    }
  }
}
