package faithfulcourier.web;

import faithfulcourier.wire.Codec;
import faithfulcourier.wire.Encoding;
import java.net.URI;
import java.net.http.HttpClient;
import java.time.Duration;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import java.util.function.BiFunction;
import java.util.function.Consumer;
import java.util.function.Function;

/**
 * Makes clients of a server.
 *
 * @param <C> the client
 */
public final class ClientBuilder<C> {
  private final Function<Client, C> make;
  final String base;
  final String digest;
  Encoding encoding = Encoding.CBOR;
  boolean compression;
  Duration timeout = Duration.ofMinutes(1);
  Duration idleTimeout = Duration.ofMinutes(1);
  int tries = 4;
  long answerLimit = 4 << 20;
  int answerItemLimit = Codec.DEFAULT_BUDGET;
  int elementLimit = 1 << 20;
  final Headers headers = new Headers();
  final Map<String, Callable<String>> credentials = new LinkedHashMap<>();
  final List<ClientMiddleware> middleware = new ArrayList<>();
  BiFunction<Call<?, ?, ?>, Headers, Consumer<Watched>> watcher;
  Consumer<String> onDigest;
  HttpClient http;

  /**
   * Begins. The clients next to this one call it.
   *
   * @param base of the server
   * @param digest of the definitions that the client was made from
   * @param make makes the client
   */
  public ClientBuilder(String base, String digest, Function<Client, C> make) {
    this.base = base;
    this.digest = digest;
    this.make = make;
  }

  /**
   * Has the client send and ask for JSON instead of CBOR.
   *
   * @return this
   */
  public ClientBuilder<C> json() {
    encoding = Encoding.JSON;
    return this;
  }

  /**
   * Has the client ask for answers in gzip, and send bodies of more than 1 KiB so.
   *
   * @return this
   */
  public ClientBuilder<C> compression() {
    compression = true;
    return this;
  }

  /**
   * Limits the time of each call and of everything that it waits for: credentials, tries and the pauses between them; 60 s
   * unless said otherwise. Of a stream it limits the time until it begins.
   *
   * @param limit how long; zero is no limit
   * @return this
   */
  public ClientBuilder<C> timeout(Duration limit) {
    timeout = limit;
    return this;
  }

  /**
   * Limits how long a stream may be silent; 60 s unless said otherwise.
   *
   * @param limit how long; zero is no limit
   * @return this
   */
  public ClientBuilder<C> idleTimeout(Duration limit) {
    idleTimeout = limit;
    return this;
  }

  /**
   * Limits how often a call that is safe or idempotent is sent; 4 times unless said otherwise, and 1 never repeats.
   *
   * @param most how often
   * @return this
   */
  public ClientBuilder<C> tries(int most) {
    tries = most;
    return this;
  }

  /**
   * Limits how large an answer may be; 4 MiB unless said otherwise.
   *
   * @param bytes the limit
   * @return this
   */
  public ClientBuilder<C> answerLimit(long bytes) {
    answerLimit = Math.min(bytes, Integer.MAX_VALUE - 64);
    return this;
  }

  /**
   * Limits how many items and entries an answer, or an element of one, may contain; 1,000,000 unless said otherwise.
   *
   * @param items the limit
   * @return this
   */
  public ClientBuilder<C> answerItemLimit(int items) {
    answerItemLimit = items;
    return this;
  }

  /**
   * Limits how large an element of a stream may be; 1 MiB unless said otherwise.
   *
   * @param bytes the limit
   * @return this
   */
  public ClientBuilder<C> elementLimit(int bytes) {
    elementLimit = Math.min(bytes, Integer.MAX_VALUE - 64);
    return this;
  }

  /**
   * Adds a header to every request.
   *
   * @param name of the header
   * @param value of the header
   * @return this
   */
  public ClientBuilder<C> header(String name, String value) {
    headers.add(name, value);
    return this;
  }

  /**
   * Gives the client the value of a credential; that of basic credentials is "user:password".
   *
   * @param name of the credential, with or without its module
   * @param value what is shown
   * @return this
   */
  public ClientBuilder<C> credential(String name, String value) {
    credentials.put(name, () -> value);
    return this;
  }

  /**
   * Gives the client a credential that is asked for on every call. A call whose time is over does not wait for it any more.
   *
   * @param name of the credential, with or without its module
   * @param value returns what is shown
   * @return this
   */
  public ClientBuilder<C> credential(String name, Callable<String> value) {
    credentials.put(name, new Asked(value));
    return this;
  }

  /** Is a credential that is asked for, which may wait. */
  record Asked(Callable<String> value) implements Callable<String> {
    @Override
    public String call() throws Exception {
      return value.call();
    }
  }

  /**
   * Adds middleware; the first added is the outermost.
   *
   * @param around what runs around requests
   * @return this
   */
  public ClientBuilder<C> middleware(ClientMiddleware around) {
    middleware.add(around);
    return this;
  }

  /**
   * Has each call told to a watcher when it begins, with the headers that go with it, and what that returns when it ends: a
   * stream or a raw body ends when it was read or given up, a conversation when it is closed.
   *
   * @param watch the watcher
   * @return this
   */
  public ClientBuilder<C> watcher(BiFunction<Call<?, ?, ?>, Headers, Consumer<Watched>> watch) {
    watcher = watch;
    return this;
  }

  /**
   * Is told the digest of a server's definitions where it is not the one that this client was made from. The call goes on
   * all the same.
   *
   * @param hook is told theirs
   * @return this
   */
  public ClientBuilder<C> onDigest(Consumer<String> hook) {
    onDigest = hook;
    return this;
  }

  /**
   * Has the client use another HTTP client, for its connections, certificates and threads. Make it without redirects, which
   * calls never follow.
   *
   * @param other the HTTP client
   * @return this
   */
  public ClientBuilder<C> httpClient(HttpClient other) {
    if (other.followRedirects() != HttpClient.Redirect.NEVER) {
      throw new IllegalArgumentException("calls never follow redirects: make the HttpClient with Redirect.NEVER");
    }
    http = other;
    return this;
  }

  /**
   * Makes the client.
   *
   * @return the client
   * @throws IllegalArgumentException if the base is not the URL of a server
   */
  public C build() {
    return make.apply(new Client(this));
  }

  static URI checked(String base) {
    URI uri;
    try {
      uri = URI.create(base.replaceAll("/+$", ""));
    } catch (IllegalArgumentException e) {
      throw new IllegalArgumentException(notServer(base), e);
    }
    boolean known = "http".equalsIgnoreCase(uri.getScheme()) || "https".equalsIgnoreCase(uri.getScheme());
    if (!known || uri.getHost() == null || uri.getRawQuery() != null || uri.getRawFragment() != null) {
      throw new IllegalArgumentException(notServer(base));
    }
    return uri;
  }

  private static String notServer(String base) {
    String example = base.isEmpty() || base.contains("//") || base.contains(" ") ? "127.0.0.1:8080" : base;
    return "\"" + base + "\" is not the URL of a server; write, for example: http://" + example;
  }
}
