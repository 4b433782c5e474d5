package faithfulcourier.web;

import jakarta.servlet.AsyncContext;
import jakarta.servlet.ServletException;
import jakarta.servlet.http.HttpServlet;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import jakarta.websocket.CloseReason;
import jakarta.websocket.Endpoint;
import jakarta.websocket.EndpointConfig;
import jakarta.websocket.Extension;
import jakarta.websocket.MessageHandler;
import jakarta.websocket.Session;
import jakarta.websocket.server.HandshakeRequest;
import jakarta.websocket.server.ServerContainer;
import jakarta.websocket.server.ServerEndpointConfig;
import java.io.FilterOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.InterruptedIOException;
import java.io.OutputStream;
import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;
import java.util.Collections;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.concurrent.Executor;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.ScheduledFuture;

/**
 * Serves a mount in a servlet container (Jakarta Servlet 6), and calls that stream both ways by its WebSockets (Jakarta
 * WebSocket 2.1). Register it with support for asynchronous requests, at the path that is the mount's base.
 *
 * <p>Handlers wait on threads of an executor of their own, not on the container's. Heartbeats have to come more often than
 * the container takes a connection for idle.
 */
public final class ServletMount extends HttpServlet {
  private static final long serialVersionUID = 1L;
  private static final String ABORTED = ServletMount.class.getName() + ".aborted";
  private static final long GONE_MILLIS = 200;

  private final transient Served served;
  private final transient Executor executor;
  private final transient ExecutorService own;

  /**
   * Makes a servlet with threads of its own, which end with it.
   *
   * @param served the mount
   */
  public ServletMount(Served served) {
    this.served = served;
    own = Timers.handlers();
    executor = own;
  }

  /**
   * Makes a servlet.
   *
   * @param served the mount
   * @param executor on which handlers run, and may wait
   */
  public ServletMount(Served served, Executor executor) {
    this.served = served;
    this.executor = executor;
    own = null;
  }

  @Override
  public void destroy() {
    if (own != null) {
      own.shutdownNow();
    }
  }

  @Override
  protected void service(HttpServletRequest request, HttpServletResponse response)
      throws ServletException, IOException {
    if (request.getAttribute(ABORTED) != null) {
      throw new IOException("the answer is given up"); // so that the container breaks the connection
    }
    String upgrade = request.getHeader("Upgrade");
    if (upgrade != null && upgrade.toLowerCase(Locale.ROOT).contains("websocket")) {
      Carried carried = new Carried(request, response, executor);
      served.serve(carried); // which returns when it is upgraded, or refused
      if (carried.aborted) {
        throw new IOException("the answer is given up");
      }
      return;
    }
    AsyncContext async = request.startAsync();
    async.setTimeout(0);
    Carried carried = new Carried(request, response, executor);
    executor.execute(
        () -> {
          try {
            served.serve(carried);
          } finally {
            if (carried.gone) { // which the container hears by itself, and may be dealing with right now
              ScheduledFuture<?> unused = Timers.after(GONE_MILLIS, () -> end(async, request, carried.aborted));
            } else {
              end(async, request, carried.aborted);
            }
          }
        });
  }

  /** Ends a request that the container has not ended, which then says that it is not started, or fails with anything. */
  private static void end(AsyncContext async, HttpServletRequest request, boolean breaks) {
    try {
      if (!request.isAsyncStarted()) {
        return;
      } else if (breaks) {
        request.setAttribute(ABORTED, true);
        async.dispatch(); // complete would look like a clean end
      } else {
        async.complete();
      }
    } catch (IllegalStateException | NullPointerException e) {
      // It has been ended.
    }
  }

  private static final class Carried implements Carrier {
    private final HttpServletRequest request;
    private final HttpServletResponse response;
    private final Executor executor;
    private final Headers headers = new Headers();
    private final String method; // what is read of a request after it has ended may be another one's
    private final String target;
    private final String peer;
    private final long length;
    private boolean aborted;
    private volatile boolean gone; // whether the other side seems to have left

    Carried(HttpServletRequest request, HttpServletResponse response, Executor executor) {
      this.request = request;
      this.response = response;
      this.executor = executor;
      method = request.getMethod();
      String query = request.getQueryString();
      target = query == null ? request.getRequestURI() : request.getRequestURI() + "?" + query;
      peer = request.getRemoteAddr() + ":" + request.getRemotePort();
      for (String name : Collections.list(request.getHeaderNames())) {
        Collections.list(request.getHeaders(name)).forEach(value -> headers.came(name, value));
      }
      boolean old = request.getProtocol().startsWith("HTTP/1");
      boolean none = old ? headers.first("Transfer-Encoding") == null : method.equals("GET") || method.equals("HEAD");
      length = request.getContentLengthLong() < 0 && none ? 0 : request.getContentLengthLong();
    }

    @Override
    public String method() {
      return method;
    }

    @Override
    public String target() {
      return target;
    }

    @Override
    public Headers headers() {
      return headers;
    }

    @Override
    public long length() {
      return length;
    }

    @Override
    public InputStream body() throws IOException {
      InputStream in = request.getInputStream();
      return new BlockInput() {
        @Override
        public int read(byte[] buffer, int offset, int length) throws IOException {
          return noting(() -> in.read(buffer, offset, length));
        }
      };
    }

    @Override
    public String peer() {
      return peer;
    }

    @Override
    public OutputStream begin(int status, Headers answer, long length) throws IOException {
      OutputStream[] body = new OutputStream[1];
      noting(
          () -> {
            response.setStatus(status);
            answer
                .map()
                .forEach(
                    (name, values) -> {
                      response.setHeader(name, values.get(0));
                      values.subList(1, values.size()).forEach(value -> response.addHeader(name, value));
                    });
            if (length > 0) {
              response.setContentLengthLong(length);
            }
            body[0] = response.getOutputStream();
            return 0;
          });
      return new FilterOutputStream(body[0]) {
        @Override
        public void write(byte[] bytes, int offset, int count) throws IOException {
          noting(
              () -> {
                out.write(bytes, offset, count);
                return count;
              });
        }

        @Override
        public void flush() throws IOException {
          noting(
              () -> {
                out.flush();
                return 0;
              });
        }
      };
    }

    /** Notes that a container failed; it may have emptied what it gave us, and then fails with anything. */
    private int noting(IdleWatch.Operation operation) throws IOException {
      try {
        return operation.run();
      } catch (IOException | IllegalStateException | NullPointerException e) {
        gone |= !(e instanceof InterruptedIOException) && !(e.getCause() instanceof InterruptedException);
        throw e instanceof IOException known ? known : new IOException("the exchange has ended", e);
      }
    }

    @Override
    public void end() throws IOException {
      noting(
          () -> {
            response.flushBuffer();
            return 0;
          });
    }

    @Override
    public void abort() {
      try {
        if (gone && !response.isCommitted()) {
          response.setStatus(HttpServletResponse.SC_BAD_REQUEST); // nothing has gone that has to be broken
          return;
        }
      } catch (IllegalStateException | NullPointerException e) {
        // It has ended: there is nobody to be told.
      }
      aborted = true;
    }

    @Override
    public SocketUpgrade upgrade() {
      Object container = request.getServletContext().getAttribute(ServerContainer.class.getName());
      return container instanceof ServerContainer sockets ? (p, limit, l) -> upgrade(sockets, p, limit, l) : null;
    }

    private void upgrade(ServerContainer sockets, String protocol, int limit, SocketListener listener)
        throws IOException {
      Endpoint endpoint = new Ear(protocol.equals("faithful-json"), limit, listener, executor);
      ServerEndpointConfig config =
          ServerEndpointConfig.Builder.create(Ear.class, "/faithful")
              .subprotocols(List.of(protocol))
              .configurator(new Agreed(protocol, endpoint))
              .build();
      try {
        sockets.upgradeHttpToWebSocket(request, response, config, Map.of());
      } catch (Exception e) {
        throw new IOException("the connection could not be upgraded", e);
      }
    }
  }

  /** Agrees to what was looked at already. */
  private static final class Agreed extends ServerEndpointConfig.Configurator {
    private final String protocol;
    private final Endpoint endpoint;

    Agreed(String protocol, Endpoint endpoint) {
      this.protocol = protocol;
      this.endpoint = endpoint;
    }

    @Override
    public String getNegotiatedSubprotocol(List<String> supported, List<String> requested) {
      return protocol;
    }

    @Override
    public List<Extension> getNegotiatedExtensions(List<Extension> installed, List<Extension> requested) {
      return List.of(); // no deflate: limits hold for what comes
    }

    @Override
    public boolean checkOrigin(String origin) {
      return true;
    }

    @Override
    public void modifyHandshake(
        ServerEndpointConfig config, HandshakeRequest asked, jakarta.websocket.HandshakeResponse answer) {}

    @Override
    public <T> T getEndpointInstance(Class<T> type) {
      return type.cast(endpoint);
    }
  }

  /** Hears what comes over a WebSocket. The container's thread waits until somebody needs it. */
  public static final class Ear extends Endpoint {
    private final boolean text;
    private final int limit;
    private final SocketListener listener;
    private final Executor executor;

    private Ear(boolean text, int limit, SocketListener listener, Executor executor) {
      this.text = text;
      this.limit = limit;
      this.listener = listener;
      this.executor = executor;
    }

    @Override
    public void onOpen(Session session, EndpointConfig config) {
      session.setMaxIdleTimeout(0);
      session.setMaxBinaryMessageBufferSize(limit + 64);
      session.setMaxTextMessageBufferSize(limit + 64);
      if (text) {
        session.addMessageHandler(
            new MessageHandler.Whole<String>() {
              @Override
              public void onMessage(String message) {
                listener.message(message.getBytes(StandardCharsets.UTF_8));
              }
            });
      } else {
        session.addMessageHandler(
            new MessageHandler.Whole<byte[]>() {
              @Override
              public void onMessage(byte[] message) {
                listener.message(message);
              }
            });
      }
      executor.execute(() -> listener.run(new Peer(session, text)));
    }

    @Override
    public void onClose(Session session, CloseReason reason) {
      boolean large = reason.getCloseCode().getCode() == 1009;
      listener.closed(
          large ? Exchange.tooLargeElement(limit) : new IOException("the connection was closed: " + reason));
    }

    @Override
    public void onError(Session session, Throwable error) {
      listener.closed(error);
    }
  }

  private static final class Peer implements SocketPeer {
    private static final long ABORT_MILLIS = 500;

    private final Session session;
    private final boolean text;

    Peer(Session session, boolean text) {
      this.session = session;
      this.text = text;
    }

    @Override
    public void send(byte[] message) throws IOException {
      try {
        if (text) {
          session.getBasicRemote().sendText(new String(message, StandardCharsets.UTF_8));
        } else {
          session.getBasicRemote().sendBinary(ByteBuffer.wrap(message));
        }
      } catch (IllegalStateException e) {
        throw new IOException("the connection is closed", e);
      }
    }

    @Override
    public void close(int status) {
      try {
        session.close(new CloseReason(CloseReason.CloseCodes.getCloseCode(status), ""));
      } catch (IOException | IllegalStateException e) {
        // It is over already.
      }
    }

    @Override
    public void abort() {
      try {
        session.setMaxIdleTimeout(ABORT_MILLIS); // where nothing moves, the close can't be sent either
        close(1011);
      } catch (IllegalStateException e) {
        // It is over already.
      }
    }
  }
}
