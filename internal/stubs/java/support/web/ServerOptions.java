package faithfulcourier.web;

import java.time.Duration;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import java.util.function.Consumer;
import java.util.function.Function;

/** Changes how a mount serves. */
public final class ServerOptions {
  /** Is told each error that the caller is not. */
  @FunctionalInterface
  public interface OnError {
    /**
     * Is told an error: a handler's that the call does not declare, or an answer that can't be written.
     *
     * @param context of the call
     * @param call its full name
     * @param error what happened
     */
    void failed(Context context, String call, Throwable error);
  }

  /** Is what of a cookie is not as usual. */
  public static final class Cookie {
    String path = "/";
    String domain = "";
    Duration maxAge;
    boolean httpOnly = true;
    boolean secure = true;
    String sameSite = "Lax";

    private Cookie() {}

    /**
     * Sets the path; "/" unless said otherwise.
     *
     * @param value the path
     * @return this
     */
    public Cookie path(String value) {
      path = value;
      return this;
    }

    /**
     * Sets the domain; none unless said otherwise.
     *
     * @param value the domain
     * @return this
     */
    public Cookie domain(String value) {
      domain = value;
      return this;
    }

    /**
     * Sets how long it lasts; until the browser is closed unless said otherwise.
     *
     * @param value how long
     * @return this
     */
    public Cookie maxAge(Duration value) {
      maxAge = value;
      return this;
    }

    /**
     * Sets whether scripts can't read it, as they can't unless said otherwise.
     *
     * @param value whether they can't
     * @return this
     */
    public Cookie httpOnly(boolean value) {
      httpOnly = value;
      return this;
    }

    /**
     * Sets whether it travels over https alone, as it does unless said otherwise.
     *
     * @param value whether it does
     * @return this
     */
    public Cookie secure(boolean value) {
      secure = value;
      return this;
    }

    /**
     * Sets SameSite; "Lax" unless said otherwise. Pages of another site need "None".
     *
     * @param value the attribute
     * @return this
     */
    public Cookie sameSite(String value) {
      sameSite = value;
      return this;
    }
  }

  final String base;
  final long bodyLimit;
  final int elementLimit;
  final int itemLimit;
  final Duration handlerTimeout;
  final Duration idleTimeout;
  final Duration heartbeat;
  final int callLimit;
  final List<String> origins;
  final Map<String, Cookie> cookies;
  final boolean keepsUnlisted;
  final Authorizer authorizer;
  final List<Middleware> middleware;
  final OnError onError;
  final Function<Context, Consumer<Watched>> watcher;
  final Callable<Boolean> serving;
  final boolean quiet;
  final boolean guarded;
  final boolean compression;

  private ServerOptions(Builder b) {
    base = b.base;
    bodyLimit = b.bodyLimit;
    elementLimit = b.elementLimit;
    itemLimit = b.itemLimit;
    handlerTimeout = b.handlerTimeout;
    idleTimeout = b.idleTimeout;
    heartbeat = b.heartbeat;
    callLimit = b.callLimit;
    origins = List.copyOf(b.origins);
    cookies = Map.copyOf(b.cookies);
    keepsUnlisted = b.keepsUnlisted;
    authorizer = b.authorizer;
    middleware = List.copyOf(b.middleware);
    onError = b.onError;
    watcher = b.watcher;
    serving = b.serving;
    quiet = b.quiet;
    guarded = b.guarded;
    compression = b.compression;
  }

  /**
   * Begins.
   *
   * @return a builder, in which all is as usual
   */
  public static Builder builder() {
    return new Builder();
  }

  /**
   * Is what serves as usual.
   *
   * @return the options
   */
  public static ServerOptions defaults() {
    return builder().build();
  }

  /** Makes options. */
  public static final class Builder {
    private String base = "";
    private long bodyLimit = 4 << 20;
    private int elementLimit = 1 << 20;
    private int itemLimit = 250_000; // so low that no body of the usual limit builds more than 64 MiB, or takes 0.3 s
    private Duration handlerTimeout = Duration.ofMinutes(1);
    private Duration idleTimeout = Duration.ofMinutes(1);
    private Duration heartbeat = Duration.ofSeconds(15);
    private int callLimit;
    private final List<String> origins = new ArrayList<>();
    private final Map<String, Cookie> cookies = new LinkedHashMap<>();
    private boolean keepsUnlisted;
    private Authorizer authorizer;
    private final List<Middleware> middleware = new ArrayList<>();
    private OnError onError;
    private Function<Context, Consumer<Watched>> watcher;
    private Callable<Boolean> serving = () -> true;
    private boolean quiet;
    private boolean guarded;
    private boolean compression = true;

    private Builder() {}

    /**
     * Serves below a path.
     *
     * @param path such as "/v1"
     * @return this
     */
    public Builder base(String path) {
      base = path.replaceAll("/+$", "");
      return this;
    }

    /**
     * Limits how large a request may be; 4 MiB unless said otherwise.
     *
     * @param bytes the limit
     * @return this
     */
    public Builder bodyLimit(long bytes) {
      bodyLimit = bytes;
      return this;
    }

    /**
     * Limits how large an element of a stream may be; 1 MiB unless said otherwise.
     *
     * @param bytes the limit
     * @return this
     */
    public Builder elementLimit(int bytes) {
      elementLimit = Math.min(bytes, Integer.MAX_VALUE - 64);
      return this;
    }

    /**
     * Limits how much a request, or an element of a stream, may contain; 250,000 unless said otherwise. Items of lists and
     * entries of maps and messages count one, a message one and its declared fields as well.
     *
     * @param items the limit
     * @return this
     */
    public Builder itemLimit(int items) {
      itemLimit = items;
      return this;
    }

    /**
     * Limits how long a call may take, its body included; 60 s unless said otherwise. Streams are not limited.
     *
     * @param time the limit
     * @return this
     */
    public Builder handlerTimeout(Duration time) {
      handlerTimeout = time;
      return this;
    }

    /**
     * Limits how long a stream may be silent, and a write may take; 60 s unless said otherwise.
     *
     * @param time the limit
     * @return this
     */
    public Builder idleTimeout(Duration time) {
      idleTimeout = time;
      return this;
    }

    /**
     * Sets after how much silence a stream says that it lives; 15 s unless said otherwise.
     *
     * @param time the pause
     * @return this
     */
    public Builder heartbeat(Duration time) {
      heartbeat = time;
      return this;
    }

    /**
     * Limits how many calls are answered at once, streams included; others are refused with 503.
     *
     * @param calls the limit, 0 for none
     * @return this
     */
    public Builder callLimit(int calls) {
      callLimit = calls;
      return this;
    }

    /**
     * Lets pages of other origins call from a browser.
     *
     * @param allowed such as "https://skerry.example"
     * @return this
     */
    public Builder origins(String... allowed) {
      origins.addAll(List.of(allowed));
      return this;
    }

    /**
     * Changes how a cookie is set that answers have a field for.
     *
     * @param name of the cookie
     * @param change sets what is not as usual
     * @return this
     */
    public Builder cookie(String name, Consumer<Cookie> change) {
      Cookie cookie = new Cookie();
      change.accept(cookie);
      cookies.put(name, cookie);
      return this;
    }

    /**
     * Lets requests contain members and alternatives that the definitions do not list, for servers that only pass messages
     * on.
     *
     * @return this
     */
    public Builder keepUnlisted() {
      keepsUnlisted = true;
      return this;
    }

    /**
     * Sets what judges credentials. Without an authorizer it is enough that they are there.
     *
     * @param judge the authorizer
     * @return this
     */
    public Builder authorizer(Authorizer judge) {
      authorizer = judge;
      return this;
    }

    /**
     * Adds middleware; the first added is the outermost.
     *
     * @param around what runs around handlers
     * @return this
     */
    public Builder middleware(Middleware around) {
      middleware.add(around);
      return this;
    }

    /**
     * Sets what is told each error that the caller is not. Without it they are logged by {@link System.Logger}.
     *
     * @param hook the hook
     * @return this
     */
    public Builder onError(OnError hook) {
      onError = hook;
      return this;
    }

    /**
     * Has each call told to a watcher when it begins, and what that returns when it ends: for metrics, logs and traces.
     *
     * @param watch the watcher
     * @return this
     */
    public Builder watcher(Function<Context, Consumer<Watched>> watch) {
      watcher = watch;
      return this;
    }

    /**
     * Makes "/-/state" answer 503 while something is not so.
     *
     * @param check whether the server serves
     * @return this
     */
    public Builder serving(Callable<Boolean> check) {
      serving = check;
      return this;
    }

    /**
     * Keeps "/-/about", "/-/definitions" and "/-/manual" to the server.
     *
     * @return this
     */
    public Builder withoutDefinitions() {
      quiet = true;
      return this;
    }

    /**
     * Has the authorizer guard "/-/about", "/-/definitions" and "/-/manual".
     *
     * @return this
     */
    public Builder guardedDefinitions() {
      guarded = true;
      return this;
    }

    /**
     * Has answers go out as they are, also to clients that would take them compressed.
     *
     * @return this
     */
    public Builder withoutCompression() {
      compression = false;
      return this;
    }

    /**
     * Ends.
     *
     * @return the options
     */
    public ServerOptions build() {
      return new ServerOptions(this);
    }
  }
}
