package faithfulcourier.web;

import faithfulcourier.wire.Any;
import faithfulcourier.wire.Body;
import faithfulcourier.wire.BodyBounds;
import faithfulcourier.wire.DeclaredException;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.StreamElement;
import faithfulcourier.wire.Violation;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.SocketTimeoutException;
import java.net.URI;
import java.net.URISyntaxException;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.Comparator;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.NoSuchElementException;
import java.util.SortedSet;
import java.util.TreeSet;
import java.util.concurrent.CancellationException;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.locks.Condition;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;
import java.util.stream.Collectors;

/**
 * Is one request while it is answered. It refuses in the order: credentials, encoding of the answer, encoding of the
 * request, size, what can't be read, what is not allowed.
 */
final class Exchange {
  private static final long RAW_LIMIT = 64L << 20; // of bodies that the definitions have no limit for
  private static final int PIECE = 256 << 10;
  private static final long DRAIN_PAUSE_MILLIS = 2000;
  private static final long DRAIN_MILLIS = 10_000;
  private static final long DRAIN_BYTES = 64L << 20;

  /** Is how far a call has come: it is answered once, by its own thread or by one that ends it. */
  private enum Progress {
    READING,
    RUNNING,
    ANSWERING
  }

  /** Is a request that is refused, with the problem and more headers. */
  static final class Refused extends Exception {
    private static final long serialVersionUID = 1L;
    final transient Problem problem;
    final transient Map<String, String> headers;

    Refused(Problem problem) {
      this(problem, Map.of());
    }

    Refused(Problem problem, Map<String, String> headers) {
      super(problem.text(), null, false, false);
      this.problem = problem;
      this.headers = headers;
    }
  }

  /** Is a refusal on its way through a handler. */
  static final class RefusedInHandler extends RuntimeException {
    private static final long serialVersionUID = 1L;
    final transient Exception why;

    RefusedInHandler(Exception why) {
      super(why.getMessage(), why, false, false);
      this.why = why;
    }
  }

  /** Is a server that shuts down, to a stream's handler. */
  static final class Unavailable extends CancellationException {
    private static final long serialVersionUID = 1L;

    Unavailable() {
      super("the server is shutting down");
    }
  }

  private final Served served;
  private final ServerOptions options;
  private final Carrier carrier;
  private final Headers came;
  private final Headers headers = new Headers();
  private final String path;
  private final String rawQuery;
  private final IdleWatch idle;
  private Map<String, List<String>> query;
  private boolean oddQuery;
  private Map<String, String> values = Map.of();
  private Context context;
  private Call<?, ?, ?> call;
  private String requestType = "";
  private String answerType = "";
  private Arriving arriving;
  private boolean bodyRead; // to its end
  private boolean lost; // whether the caller has left in the middle of it

  private volatile HandlerThread handler = new HandlerThread();
  private Progress progress = Progress.READING;
  private boolean early; // whether another thread has answered
  private volatile boolean unavailable;
  private boolean detached; // whether the call goes on after its request, over a WebSocket

  private Consumer<Watched> watcher;
  private Instant start;
  private long startNanos;
  private int status;
  private long received;
  private long sent;
  private Throwable failure;

  Exchange(Served served, Carrier carrier) {
    this.served = served;
    this.carrier = carrier;
    options = served.options;
    came = carrier.headers();
    idle = new IdleWatch(options.idleTimeout.toMillis());
    String target = carrier.target();
    int mark = target.indexOf('?');
    path = mark < 0 ? target : target.substring(0, mark);
    rawQuery = mark < 0 ? "" : target.substring(mark + 1);
  }

  void run() {
    HandlerThread own = handler; // that of a call over a WebSocket is another one
    own.begin();
    try {
      begin();
    } catch (Refused refused) {
      try {
        refuse(refused);
      } catch (IOException e) {
        carrier.abort(); // a client that has left is not an error of ours
      }
    } catch (IOException e) {
      carrier.abort();
    } catch (RuntimeException | Error e) {
      served.report(context, call == null ? path : call.name(), e);
      carrier.abort();
    } finally {
      own.end();
      if (!detached) {
        idle.close();
      }
    }
  }

  private void begin() throws Refused, IOException {
    headers.set("Faithful-Definitions", served.definitions.digest);
    if (!options.origins.isEmpty() && crossOrigin()) {
      return;
    }
    String below = path.startsWith(options.base) ? path.substring(options.base.length()) : "";
    if (!below.startsWith("/")) { // a base is whole segments
      throw new Refused(served.problem("unknown-call", "nothing is served at " + path));
    }
    if (below.startsWith("/-/")) {
      ownPage(below.substring(3));
      return;
    }
    Routes.Found found = served.table.find(carrier.method(), below);
    if (found.route() == null) {
      noRoute(below, found.allow());
      return;
    }
    if (!served.enter(this)) {
      throw new Refused(served.problem("overloaded", "the server has too much to do"));
    }
    try {
      if (served.isOver()) {
        throw new Refused(served.problem("unavailable", "the server is shutting down"));
      }
      values = found.values();
      serve(found.route());
    } finally {
      if (!detached) {
        served.leave(this);
      }
    }
  }

  private void noRoute(String below, SortedSet<String> allow) throws Refused, IOException {
    if (allow.isEmpty()) {
      throw new Refused(served.problem("unknown-call", "no call has the path " + path));
    }
    SortedSet<String> answered = new TreeSet<>(allow);
    answered.add("OPTIONS");
    if (allow.contains("GET")) {
      answered.add("HEAD");
    }
    headers.set("Allow", String.join(", ", answered));
    if (carrier.method().equals("OPTIONS")) {
      deliver(204, null);
      return;
    }
    throw new Refused(
        served.problem(
            "wrong-method", below + " is called with " + String.join(" or ", allow) + ", not " + carrier.method()));
  }

  /** Lets browsers call from the origins that were given (Fetch standard), and answers what they ask before they do. */
  private boolean crossOrigin() throws IOException {
    headers.add("Vary", "Origin"); // also where none is told: what is kept of that answer is not for all
    String origin = came.first("Origin");
    if (origin == null || !options.origins.contains(origin)) {
      return false;
    }
    headers.set("Access-Control-Allow-Origin", origin);
    headers.set("Access-Control-Allow-Credentials", "true");
    headers.set("Access-Control-Expose-Headers", "Faithful-Definitions, Retry-After, WWW-Authenticate");
    String wanted = came.first("Access-Control-Request-Method");
    if (!carrier.method().equals("OPTIONS") || wanted == null || wanted.isEmpty()) {
      return false;
    }
    headers.set("Access-Control-Allow-Methods", wanted);
    String asked = came.first("Access-Control-Request-Headers");
    headers.set("Access-Control-Allow-Headers", asked == null ? "" : asked);
    headers.set("Access-Control-Max-Age", "600");
    deliver(204, null);
    return true;
  }

  private <H, Q, A> void serve(Route<H, Q, A> route) throws IOException {
    call = route.call;
    context = new Context(call, came, headers, carrier.peer());
    watch();
    Trace.Scope scope = traced();
    try {
      Caching.keep(call, headers, options.compression);
      expose();
      if (isForeign()) {
        throw new Refused(served.problem("forbidden", "a page of another site may not make this call"));
      }
      admit();
      if (call.bothWays()) {
        converse(route);
        return;
      }
      requestType = Media.bare(came.first("Content-Type"));
      answerType = Media.preferred(came.all("Accept"), requestType, call.answerStream);
      if (answerType.isEmpty() && call.answerRaw() == null) {
        throw new Refused(served.problem("not-acceptable", "answers are in CBOR or JSON"));
      }
      if (call.requestStream) {
        receive(route);
      } else if (call.answerStream) {
        send(route);
      } else {
        unary(route);
      }
    } catch (Refused refused) {
      refuse(refused);
    } finally {
      if (!detached) {
        watched();
      }
      scope.close();
    }
  }

  private Trace.Scope traced() {
    String parent = came.first("traceparent");
    Trace trace = parent == null ? null : new Trace(parent, String.join(",", came.all("tracestate")));
    return Trace.enter(trace);
  }

  private void expose() {
    String exposed = headers.first("Access-Control-Expose-Headers");
    if (exposed == null || call.answerStream || call.answer == null) {
      return;
    }
    StringBuilder all = new StringBuilder(exposed);
    for (Placed p : call.answer.placed()) {
      if (p.in().equals("header")) {
        all.append(", ").append(p.parameter());
      }
    }
    headers.set("Access-Control-Expose-Headers", all.toString());
  }

  // Who calls.

  /** Tells calls that a page of another site made a browser send with what it keeps for this one. */
  private boolean isForeign() {
    boolean kept = call.inCookies();
    for (List<Credential> all : call.needs()) {
      for (Credential c : all) {
        kept |= c.kind().equals("cookie") || (c.kind().equals("basic") && basic() != null);
      }
    }
    if (!kept) {
      return false;
    }
    List<String> origins = came.all("Origin");
    if (!origins.isEmpty()) {
      return origins.size() > 1 || !allowsOrigin(origins.get(0));
    }
    boolean reads = carrier.method().equals("GET") || carrier.method().equals("HEAD");
    if (reads && "navigate".equals(came.first("Sec-Fetch-Mode"))) {
      return false; // somebody follows a link
    }
    return "cross-site".equals(came.first("Sec-Fetch-Site"));
  }

  private boolean allowsOrigin(String origin) {
    if (options.origins.contains(origin) || "same-origin".equals(came.first("Sec-Fetch-Site"))) {
      return true;
    }
    try {
      URI uri = new URI(origin);
      String authority = uri.getRawAuthority();
      return authority != null
          && uri.getRawUserInfo() == null
          && ("http".equalsIgnoreCase(uri.getScheme()) || "https".equalsIgnoreCase(uri.getScheme()))
          && (uri.getRawPath() == null || uri.getRawPath().isEmpty())
          && authority.equalsIgnoreCase(came.first("Host"));
    } catch (URISyntaxException e) {
      return false;
    }
  }

  private void admit() throws Refused {
    if (call.needs().isEmpty() && options.authorizer == null) {
      return;
    }
    Map<String, String> credentials = new LinkedHashMap<>();
    boolean enough = call.needs().isEmpty();
    for (List<Credential> all : call.needs()) {
      boolean complete = true;
      for (Credential c : all) {
        String value = shown(c);
        if (value == null) {
          complete = false;
        } else {
          credentials.put(c.name(), value);
        }
      }
      enough |= complete;
    }
    if (!enough) {
      throw unauthenticated(call.needs(), call.name(), "the call needs " + call.needsText());
    }
    judge(context, call.needs(), call.name(), credentials);
  }

  private void judge(Context of, List<List<Credential>> needs, String name, Map<String, String> credentials)
      throws Refused {
    if (options.authorizer == null) {
      return;
    }
    try {
      options.authorizer.authorize(of, credentials);
    } catch (UnauthenticatedException e) {
      failure = e;
      throw unauthenticated(needs, name, e.getMessage());
    } catch (ForbiddenException e) {
      failure = e;
      throw new Refused(served.problem("forbidden", e.getMessage()));
    } catch (OverloadedException e) {
      failure = e;
      throw overloaded(e);
    } catch (Exception | Error e) {
      failure = e;
      served.report(of, name, e);
      throw new Refused(served.problem("internal", ""));
    }
  }

  private Refused overloaded(OverloadedException e) {
    return new Refused(
        served.problem("overloaded", "the server has too much to do"), Map.of("Retry-After", String.valueOf(e.seconds())));
  }

  private Refused unauthenticated(List<List<Credential>> needs, String name, String detail) {
    List<String> challenges = new ArrayList<>();
    for (List<Credential> all : needs) {
      for (Credential c : all) {
        String challenge =
            switch (c.kind()) {
              case "bearer" -> "Bearer";
              case "basic" -> "Basic realm=\"" + name + "\", charset=\"UTF-8\"";
              default -> "Key in=\"" + c.kind() + "\", name=\"" + c.key() + "\"";
            };
        if (!challenges.contains(challenge)) {
          challenges.add(challenge);
        }
      }
    }
    challenges.forEach(challenge -> headers.add("WWW-Authenticate", challenge));
    return new Refused(served.problem("unauthenticated", detail));
  }

  /** Is the value of a credential that a request came with, or null. */
  private String shown(Credential c) {
    switch (c.kind()) {
      case "header":
        return filled(came.first(c.key()));
      case "query":
        List<String> found = queries().getOrDefault(c.key(), List.of());
        return found.isEmpty() ? null : filled(found.get(0));
      case "cookie":
        return filled(cookie(c.key()));
      case "basic":
        return basic();
      default:
        String[] parts = authorization();
        return parts[0].equalsIgnoreCase("Bearer") ? filled(parts[1]) : null;
    }
  }

  private static String filled(String value) {
    return value == null || value.isEmpty() ? null : value;
  }

  private String[] authorization() {
    String header = came.first("Authorization");
    int blank = header == null ? -1 : header.indexOf(' ');
    return blank < 0 ? new String[] {"", ""} : new String[] {header.substring(0, blank), header.substring(blank + 1).strip()};
  }

  /** Is a name and password, or null. */
  private String basic() {
    String[] parts = authorization();
    if (!parts[0].equalsIgnoreCase("Basic")) {
      return null;
    }
    try {
      String pair = new String(Base64.getDecoder().decode(parts[1]), StandardCharsets.UTF_8);
      return pair.indexOf(':') < 0 ? null : pair;
    } catch (IllegalArgumentException e) {
      return null;
    }
  }

  /** Is the value of a cookie, or null; of several of one name the first counts. */
  private String cookie(String name) {
    for (String line : came.all("Cookie")) {
      for (String pair : line.split(";", -1)) {
        int equals = pair.indexOf('=');
        if (equals > 0 && pair.substring(0, equals).strip().equals(name)) {
          String value = pair.substring(equals + 1).strip();
          boolean quoted = value.length() > 1 && value.startsWith("\"") && value.endsWith("\"");
          return quoted ? value.substring(1, value.length() - 1) : value;
        }
      }
    }
    return null;
  }

  private Map<String, List<String>> queries() {
    if (query == null) {
      query = new LinkedHashMap<>();
      for (String pair : rawQuery.split("&", -1)) {
        if (pair.isEmpty()) {
          continue;
        }
        int equals = pair.indexOf('=');
        String name = Escapes.decoded(equals < 0 ? pair : pair.substring(0, equals), true);
        String value = Escapes.decoded(equals < 0 ? "" : pair.substring(equals + 1), true);
        if (name == null || value == null) {
          oddQuery = true;
        } else {
          query.computeIfAbsent(name, n -> new ArrayList<>()).add(value);
        }
      }
    }
    return query;
  }

  /** Is where what travels outside of a request's body is found. */
  private List<String> arrived(Placed p) {
    switch (p.in()) {
      case "path":
        return List.of(values.get(p.parameter()));
      case "query":
        return queries().getOrDefault(p.parameter(), List.of());
      case "header":
        List<String> found = came.all(p.parameter());
        if (found.size() > 1 && p.isVerbatim()) {
          found = List.of(String.join(", ", found)); // RFC 9110, section 5.3
        }
        boolean condition =
            p.parameter().equalsIgnoreCase("If-Match") || p.parameter().equalsIgnoreCase("If-None-Match");
        return condition && !found.isEmpty() ? List.of(Tags.withoutEncodings(found.get(0))) : found;
      default:
        String cookie = cookie(p.parameter());
        return cookie == null ? List.of() : List.of(cookie);
    }
  }

  // Calls of one request and one answer.

  private <H, Q, A> void unary(Route<H, Q, A> route) throws Refused, IOException {
    boolean raw = call.raw() != null || call.answerRaw() != null; // it is idleness that has a limit
    ScheduledFuture<?> late = raw ? null : Timers.after(patience(), this::late);
    try {
      Q request;
      try {
        request = request(route.call.request);
      } catch (Refused refused) {
        if (!advance(Progress.ANSWERING)) {
          finishLate();
          return;
        }
        throw refused;
      }
      if (!advance(Progress.RUNNING)) {
        finishLate();
        return;
      }
      context.request = request;
      A answer = null;
      Throwable failed = null;
      try {
        answer = handled(route, null, request, null, null);
      } catch (Throwable e) {
        failed = e;
      }
      if (arriving != null && arriving.failed != null) {
        failed = arriving.failed; // whatever the handler made of it
      }
      if (!advance(Progress.ANSWERING)) {
        finishLate();
        return;
      }
      if (lost) {
        failure = failed;
        carrier.abort(); // nobody is there to be told
        return;
      }
      if (failed != null) {
        throw problemOf(failed);
      }
      answer(route.call.answer, route.answers(), answer);
    } finally {
      if (late != null) {
        late.cancel(false);
      }
    }
  }

  /** Runs a handler inside of the middleware. */
  private <H, Q, A> A handled(Route<H, Q, A> route, H head, Q request, Elements<Q> elements, Answers<A> answers)
      throws Exception {
    if (!route.implemented) {
      throw new NotImplementedCallException();
    }
    List<A> result = new ArrayList<>(1);
    boolean[] ran = new boolean[1];
    Middleware.Next next =
        () -> {
          A answer = route.handler.serve(head, request, elements, answers, context);
          if (answer == null && route.answers()) {
            throw new IllegalStateException("the handler returned null in the place of an answer");
          }
          context.answer = answer;
          result.add(answer);
          ran[0] = true;
        };
    for (int i = options.middleware.size() - 1; i >= 0; i--) {
      Middleware around = options.middleware.get(i);
      Middleware.Next inner = next;
      next = () -> around.around(context, inner);
    }
    next.run();
    if (!ran[0] && (route.answers() || elements != null || answers != null)) {
      throw new IllegalStateException("middleware ended the call before its handler did");
    }
    return result.isEmpty() ? null : result.get(0);
  }

  private synchronized boolean advance(Progress next) {
    if (early) {
      return false;
    }
    progress = next;
    return true;
  }

  /** Lets another thread answer in the place of this call's own; tells whether it may. */
  private synchronized boolean claim() {
    if (early || progress == Progress.ANSWERING) {
      return false;
    }
    early = true;
    return true;
  }

  /** Ends a call that has taken too long. */
  private void late() {
    if (claim()) {
      failure = new SocketTimeoutException("the call took too long");
      boolean reading = progress == Progress.READING;
      answerEarly(
          served.problem("too-slow", reading ? "the body took too long" : "the call took too long"),
          Map.of("Retry-After", "1"));
    }
  }

  /** Ends a stream because the server shuts down. Other calls are finished. */
  void unavailable() {
    if (call == null || (!call.requestStream && !call.answerStream)) {
      return;
    }
    unavailable = true;
    if (call.requestStream && !call.answerStream) {
      if (claim()) {
        answerEarly(served.problem("unavailable", "the server is shutting down"), Map.of());
      }
      return;
    }
    interruptHandler();
  }

  private void answerEarly(Problem problem, Map<String, String> more) {
    Headers answer = new Headers(headers);
    more.forEach(answer::set);
    answer.set("Connection", "close"); // it is taken until the handler returns
    try {
      writeProblem(problem, answer);
    } catch (IOException e) {
      // Nobody is there to be told.
    }
    context.cancel();
    interruptHandler();
  }

  private void interruptHandler() {
    if (context != null) {
      context.cancel();
    }
    handler.interrupt(idle);
  }

  /** Ends the thread of a call that another one has answered. */
  private void finishLate() throws IOException {
    handler.end();
    if (!bodyRead) {
      drain();
    }
    carrier.abort();
  }

  /** Is how long the handler may take, in milliseconds: as the client says (RFC 7240, section 4.3), or the server. */
  private long patience() {
    long most = options.handlerTimeout.toMillis();
    for (String header : came.all("Prefer")) {
      for (String preference : header.split(",", -1)) {
        String p = preference.strip();
        if (p.startsWith("wait=")) {
          try {
            long seconds = Long.parseLong(p.substring(5));
            if (seconds > 0 && seconds < most / 1000) {
              return seconds * 1000;
            }
          } catch (NumberFormatException e) {
            // It is a preference: what can't be read is not one.
          }
        }
      }
    }
    return most;
  }

  // What comes.

  private int read(byte[] buffer, int offset, int length) throws IOException {
    InputStream in = carrier.body();
    int n;
    try {
      n = idle.within(() -> in.read(buffer, offset, length));
    } catch (SocketTimeoutException e) {
      throw e;
    } catch (IOException e) {
      lost = true;
      throw e;
    }
    if (n < 0) {
      bodyRead = true;
    } else {
      received += n;
    }
    return n;
  }

  private <M> M request(Call.Side<M> side) throws Refused, IOException {
    if (side == null) {
      // Any body is dropped, but for a stream: who sends one means another call.
      if (requestType.equals(Media.CBOR_SEQ) || requestType.equals(Media.JSON_SEQ)) {
        throw new Refused(
            served.problem(
                "unsupported-form",
                "the call takes no request, and no stream: Content-Type is not \"" + requestType + "\""));
      }
      return null;
    }
    byte[] body = side.hasBody() ? body() : new byte[0];
    return whole(side, body, side.raw() == null ? null : rawBody(side.travel.rawName(), side.raw()));
  }

  /** Makes a message of its body and of what came outside of it, and looks at what the definitions say of it. */
  private <M> M whole(Call.Side<M> side, byte[] body, Body raw) throws Refused {
    Encoding encoding = requestType.isEmpty() ? Encoding.JSON : Media.encoding(requestType);
    M message;
    try {
      if (side.travel == null) {
        message = side.read(encoding, body, options.itemLimit);
      } else {
        Arguments a = new Arguments(side.placed(), this::arrived);
        message = side.travel.message(encoding, body, options.itemLimit, a, raw);
        queries();
        if (oddQuery) {
          a.violations.add(new Violation("", "must be pairs that are percent-encoded as they should be", "query"));
        }
        if (!a.violations.isEmpty()) {
          throw invalid(a.violations);
        }
      }
    } catch (PayloadException e) {
      throw unreadable(e);
    }
    judge(side, message);
    return message;
  }

  private <M> void judge(Call.Side<M> side, M message) throws Refused {
    List<Violation> found = listed(side.violations.apply(message));
    if (!found.isEmpty()) {
      throw invalid(Arguments.located(found, side.placed()));
    }
  }

  private List<Violation> listed(List<Violation> found) {
    return options.keepsUnlisted ? found.stream().filter(v -> !v.unlisted()).toList() : found;
  }

  private Refused invalid(List<Violation> found) {
    String detail = found.size() == 1 ? "1 violation" : found.size() + " violations";
    return new Refused(served.problem("invalid-request", detail).with(List.copyOf(found)));
  }

  private Refused unreadable(PayloadException e) {
    if (e.isTooLarge()) {
      return new Refused(served.problem("too-large", e.detail()));
    }
    return new Refused(
        served
            .problem("invalid-request", "the request can't be read")
            .with(List.of(new Violation(e.path(), e.detail()))));
  }

  private Refused tooLarge(long limit) {
    return new Refused(served.problem("too-large", "the body is larger than " + limit + " bytes"));
  }

  private byte[] body() throws Refused, IOException {
    String coding = came.first("Content-Encoding");
    if (!Compression.isPlain(coding) && !Compression.isGzip(coding)) {
      throw new Refused(
          served.problem("unsupported-form", "the content coding \"" + coding + "\" is not read"),
          Map.of("Accept-Encoding", "gzip")); // RFC 9110, section 12.5.3
    }
    boolean known = requestType.equals(Media.CBOR) || requestType.equals(Media.JSON);
    if (!known && (!requestType.isEmpty() || carrier.length() != 0)) {
      throw new Refused(
          served.problem(
              "unsupported-form",
              "Content-Type is application/cbor or application/json, not \"" + requestType + "\""));
    }
    if (carrier.length() > options.bodyLimit) {
      throw tooLarge(options.bodyLimit);
    }
    byte[] body = all();
    if (body.length > options.bodyLimit) {
      throw tooLarge(options.bodyLimit);
    }
    if (!Compression.isPlain(coding)) {
      body = Compression.expanded(body, options.bodyLimit);
      if (body == null) {
        throw new Refused(served.problem("invalid-request", "the body can't be read: it is not whole gzip"));
      } else if (body.length > options.bodyLimit) {
        throw tooLarge(options.bodyLimit);
      }
    }
    return requestType.isEmpty() ? new byte[] {'{', '}'} : body; // no type and no body: nothing was set
  }

  /** Reads the body, at most one byte more than the limit. */
  private byte[] all() throws Refused, IOException {
    long length = carrier.length();
    if (length == 0) {
      bodyRead = true;
      return new byte[0];
    }
    try {
      if (length > 0 && length <= 1 << 20) { // a length is only the other side's word
        byte[] body = new byte[(int) length];
        int have = 0;
        while (have < body.length) {
          int n = read(body, have, body.length - have);
          if (n < 0) {
            throw new Refused(served.problem("invalid-request", "the body ended too early"));
          }
          have += n;
        }
        bodyRead = true;
        return body;
      }
      ByteArrayOutputStream body = new ByteArrayOutputStream();
      byte[] buffer = new byte[16 << 10];
      for (int n = read(buffer, 0, buffer.length); n >= 0; n = read(buffer, 0, buffer.length)) {
        body.write(buffer, 0, n);
        if (body.size() > options.bodyLimit) {
          break;
        }
      }
      return body.toByteArray();
    } catch (SocketTimeoutException e) {
      throw new Refused(served.problem("too-slow", "the body took too long"));
    } catch (IOException e) {
      throw new Refused(served.problem("invalid-request", "the body ended too early"));
    }
  }

  private Body rawBody(String name, BodyBounds bounds) throws Refused {
    String coding = came.first("Content-Encoding");
    String type = came.first("Content-Type");
    long length = carrier.length();
    if (!Compression.isPlain(coding)) {
      throw new Refused(served.problem("unsupported-form", "a raw body is not encoded: " + coding));
    } else if (type == null || type.isEmpty()) {
      throw new Refused(served.problem("unsupported-form", "Content-Type is missing: " + bounds.mediaType()));
    } else if (!bounds.allows(type)) {
      throw new Refused(
          served.problem(
              "unsupported-form", "Content-Type is " + bounds.mediaType() + ", not \"" + Media.bare(type) + "\""));
    } else if (length >= 0 && !bounds.outside(length).isEmpty()) {
      throw rawInvalid(name, bounds.outside(length));
    } else if (bounds.high() == 0 && length > RAW_LIMIT) {
      throw tooLarge(RAW_LIMIT);
    }
    arriving = new Arriving(name, bounds);
    return Body.of(type, arriving, length);
  }

  private Refused rawInvalid(String name, String detail) {
    return invalid(List.of(new Violation(Arguments.pointer(name), detail, "body")));
  }

  /** Is the body of a request, as its handler reads it: it refuses what the definitions do. */
  private final class Arriving extends BlockInput {
    private final String name;
    private final BodyBounds bounds;
    private long total;
    private Exception failed;

    Arriving(String name, BodyBounds bounds) {
      this.name = name;
      this.bounds = bounds;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) throws IOException {
      if (failed != null) {
        throw new IOException(failed);
      }
      if (length == 0) {
        return 0;
      }
      int n;
      try {
        n = carrier.length() == 0 ? -1 : Exchange.this.read(buffer, offset, length);
      } catch (SocketTimeoutException e) {
        failed = new Refused(served.problem("too-slow", "the body was silent for too long"));
        throw new IOException(failed);
      } catch (IOException e) {
        failed = e;
        throw e;
      }
      total += Math.max(0, n);
      if (bounds.high() > 0 && total > bounds.high()) {
        failed = rawInvalid(name, "must have at most " + bounds.high() + " bytes");
      } else if (bounds.high() == 0 && total > RAW_LIMIT) {
        failed = tooLarge(RAW_LIMIT);
      } else if (n < 0) {
        bodyRead = true;
        if (carrier.length() > total) {
          failed = new Refused(served.problem("invalid-request", "the body ended too early"));
        } else if (!bounds.outside(total).isEmpty()) {
          failed = rawInvalid(name, bounds.outside(total));
        }
      }
      if (failed != null) {
        throw new IOException(failed);
      }
      return n;
    }
  }

  // What goes.

  private void answer(Call.Side<?> side, boolean answers, Object answer) throws Refused, IOException {
    if (!answers) {
      finish(call.status() == 0 ? 204 : call.status(), null);
      return;
    }
    try {
      answerWith(side, answer);
    } catch (PayloadException | IllegalArgumentException e) {
      throw problemOf(e);
    }
  }

  private <M> void answerWith(Call.Side<M> side, Object untyped) throws Refused, IOException {
    @SuppressWarnings("unchecked") // a handler of this call has made it
    M answer = (M) untyped;
    if (side.raw() != null) {
      rawAnswer(side, answer);
      return;
    }
    int code = call.status() == 0 ? 200 : call.status();
    byte[] body = side.hasBody() ? side.toBytes(answer, Media.encoding(answerType)) : null;
    if (isBodiless(code) && body != null) {
      nothingIn(side, answer, body);
      body = null;
    }
    boolean zipped =
        body != null
            && call.isCompressible()
            && options.compression
            && body.length > Compression.FROM
            && headers.first("Set-Cookie") == null
            && Compression.takesGzip(came.all("Accept-Encoding"));
    if (side.travel != null && outside(side, answer, code, body != null, zipped)) {
      finish(304, null);
      return;
    }
    if (body != null) {
      headers.set("Content-Type", answerType);
    }
    if (zipped) {
      body = Compression.compressed(body);
      headers.set("Content-Encoding", "gzip");
    }
    finish(code, body == null && !isBodiless(code) ? new byte[0] : body);
  }

  /** Tells statuses whose answers have no body (RFC 9110, section 6.4.1). */
  private static boolean isBodiless(int code) {
    return code == 204 || code == 205 || code == 304;
  }

  /** Looks whether what of an answer would be in a body may be left out. */
  private <M> void nothingIn(Call.Side<M> side, M answer, byte[] body) throws Refused {
    boolean blank =
        side.travel == null
            ? Arrays.equals(body, side.toBytes(side.read(Encoding.JSON, ascii("{}"), 1000), Media.encoding(answerType)))
            : side.travel.isBlank(answer);
    if (!blank) {
      throw problemOf(
          new IllegalStateException(
              "the status " + call.status() + " has no body, and the answer sets a field that would be in it"));
    }
  }

  /** Puts what of an answer travels outside of its body where it does; tells whether the client has the answer already. */
  private <M> boolean outside(Call.Side<M> side, M answer, int code, boolean inBody, boolean zipped) throws Refused {
    Parameters p = new Parameters();
    side.travel.place(p, answer);
    if (!p.violations.isEmpty()) {
      Violation v = p.violations.get(0);
      throw problemOf(
          new IllegalStateException("an answer that can't be sent: " + (v.pointer() + " " + v.detail()).strip()));
    }
    boolean says = p.headers.keySet().stream().anyMatch("Cache-Control"::equalsIgnoreCase);
    for (Map.Entry<String, String> entry : p.headers.entrySet()) {
      if (!entry.getKey().equalsIgnoreCase("ETag")) {
        continue;
      }
      String tag = entry.getValue();
      if (!Tags.isTag(tag)) {
        throw problemOf(
            new IllegalStateException(
                "the header \"ETag\" is an entity-tag with its quotes (RFC 9110, section 8.8.3), not " + tag));
      }
      if (inBody) {
        tag = Tags.tagged(tag, answerType, zipped);
        entry.setValue(tag);
      }
      if (!says) {
        headers.set("Cache-Control", Caching.checked(call));
      }
      boolean asks = carrier.method().equals("GET") || carrier.method().equals("HEAD");
      if (asks && code >= 200 && code <= 299 && Tags.matches(came.all("If-None-Match"), tag)) {
        if (says) {
          headers.set("Cache-Control", header(p, "Cache-Control"));
        }
        headers.set("ETag", tag);
        return true;
      }
    }
    p.headers.forEach(headers::set);
    p.cookies.forEach((name, value) -> headers.add("Set-Cookie", cookie(name, value)));
    return false;
  }

  private static String header(Parameters p, String name) {
    return p.headers.entrySet().stream()
        .filter(e -> e.getKey().equalsIgnoreCase(name))
        .map(Map.Entry::getValue)
        .findFirst()
        .orElse("");
  }

  /** Is a cookie that an answer sets (RFC 6265, section 4.1); an empty one is taken away. */
  private String cookie(String name, String value) {
    ServerOptions.Cookie how = options.cookies.get(name);
    StringBuilder b = new StringBuilder(name).append('=').append(value);
    b.append("; Path=").append(how == null ? "/" : how.path);
    if (how != null && !how.domain.isEmpty()) {
      b.append("; Domain=").append(how.domain);
    }
    if (value.isEmpty()) {
      b.append("; Max-Age=0");
    } else if (how != null && how.maxAge != null) {
      b.append("; Max-Age=").append(how.maxAge.toSeconds());
    }
    if (how == null || how.httpOnly) {
      b.append("; HttpOnly");
    }
    if (how == null || how.secure) {
      b.append("; Secure");
    }
    return b.append("; SameSite=").append(how == null ? "Lax" : how.sameSite).toString();
  }

  private <M> void rawAnswer(Call.Side<M> side, M answer) throws Refused, IOException {
    BodyBounds bounds = side.raw();
    String name = side.travel.rawName();
    try (Body body = side.travel.rawOf(answer)) {
      String type = bounds.typeOf(body.mediaType());
      if (type.isEmpty()) {
        throw problemOf(
            new IllegalStateException(
                "the answer does not say the media type of \"" + name + "\": " + bounds.mediaType()));
      } else if (!bounds.allows(type)) {
        throw problemOf(
            new IllegalStateException(
                "the media type of \"" + name + "\" is " + bounds.mediaType() + ", not " + type));
      }
      long size = body.length();
      if (size >= 0 && !bounds.outside(size).isEmpty()) {
        throw problemOf(new IllegalStateException("\"" + name + "\" " + bounds.outside(size)));
      }
      int code = call.status() == 0 ? 200 : call.status();
      if (outside(side, answer, code, false, false)) {
        finish(304, null);
        return;
      }
      headers.set("X-Content-Type-Options", "nosniff");
      headers.set("Content-Security-Policy", "sandbox");
      long from = 0;
      long length = size;
      if (carrier.method().equals("GET") && code == 200 && size >= 0) {
        headers.set("Accept-Ranges", "bytes");
        long[] range = range(size);
        if (range != null && range[1] < 0) {
          headers.set("Content-Range", "bytes */" + size);
          throw new Refused(served.problem("range-not-satisfiable", "there are " + size + " bytes"));
        } else if (range != null) {
          from = range[0];
          length = range[1];
          code = 206;
          headers.set("Content-Range", "bytes " + from + "-" + (from + length - 1) + "/" + size);
        }
      }
      headers.set("Content-Type", type);
      if (carrier.method().equals("HEAD")) {
        if (length >= 0) {
          headers.set("Content-Length", String.valueOf(length));
        }
        finish(code, null);
        return;
      }
      pour(code, body, from, length);
    }
  }

  /**
   * Writes a body as it comes. What fails before anything has gone is an ordinary problem; after that the connection breaks,
   * so that nobody takes a part for the whole.
   */
  private void pour(int code, Body body, long from, long length) throws Refused, IOException {
    byte[] buffer = new byte[length < 0 ? 32 << 10 : PIECE];
    int n;
    try {
      body.skipNBytes(from);
      n = length == 0 ? -1 : body.read(buffer, 0, (int) (length < 0 ? buffer.length : Math.min(buffer.length, length)));
    } catch (IOException | RuntimeException e) {
      for (String name : List.of("Content-Range", "Accept-Ranges", "ETag", "Last-Modified")) {
        headers.remove(name);
      }
      throw problemOf(arriving != null && arriving.failed != null ? arriving.failed : e);
    }
    status = code;
    OutputStream out = carrier.begin(code, headers, length);
    long total = 0;
    while (n > 0) {
      int piece = n;
      idle.within(
          () -> {
            out.write(buffer, 0, piece);
            if (length < 0) {
              out.flush(); // whoever makes it as it goes has it seen as it goes
            }
            return 0;
          });
      sent += n;
      total += n;
      if (length >= 0 && total >= length) {
        break;
      }
      try {
        n = body.read(buffer, 0, (int) (length < 0 ? buffer.length : Math.min(buffer.length, length - total)));
      } catch (IOException | RuntimeException e) {
        broken(e);
        return;
      }
    }
    if (length >= 0 && total < length) {
      broken(new IOException("the body has " + total + " bytes, and says " + length));
      return;
    }
    idle.within(
        () -> {
          out.flush();
          return 0;
        });
    rest();
  }

  private void broken(Exception e) {
    failure = e;
    served.report(context, call.name(), e);
    carrier.abort();
  }

  /**
   * Is the one range of a body that a request asks for (RFC 9110, section 14.2): where it begins and its length, -1 where
   * there is nothing of it. Several, and those of another version of the body, are not asked for.
   */
  private long[] range(long size) {
    String header = came.first("Range");
    if (header == null || !header.startsWith("bytes=") || header.indexOf(',') >= 0) {
      return null;
    }
    String version = came.first("If-Range");
    if (version != null && !version.isEmpty()) {
      String tag = headers.first("ETag");
      boolean same = version.equals(headers.first("Last-Modified")) || (version.equals(tag) && !tag.startsWith("W/"));
      if (!same) {
        return null;
      }
    }
    String set = header.substring(6).strip();
    int hyphen = set.indexOf('-');
    if (hyphen < 0) {
      return null;
    }
    try {
      String end = set.substring(hyphen + 1);
      if (hyphen == 0) {
        long last = number(end);
        if (last == 0 || size == 0) {
          return new long[] {0, -1};
        }
        return new long[] {Math.max(0, size - last), Math.min(size, last)};
      }
      long first = number(set.substring(0, hyphen));
      long last = size - 1;
      if (!end.isEmpty()) {
        long wanted = number(end);
        if (wanted < first) {
          return null;
        }
        last = Math.min(last, wanted);
      }
      return first >= size ? new long[] {0, -1} : new long[] {first, last - first + 1};
    } catch (NumberFormatException e) {
      return null;
    }
  }

  private static long number(String digits) {
    if (digits.isEmpty() || !digits.chars().allMatch(c -> c >= '0' && c <= '9')) {
      throw new NumberFormatException(digits);
    }
    return Long.parseLong(digits);
  }

  /** Answers, and ends the exchange as it should be. */
  private void finish(int code, byte[] body) throws IOException {
    deliver(code, body);
  }

  private void deliver(int code, byte[] body) throws IOException {
    status = code;
    write(code, headers, body);
    rest();
  }

  private void write(int code, Headers answer, byte[] body) throws IOException {
    boolean silent = body == null || carrier.method().equals("HEAD");
    if (body != null) {
      answer.set("Content-Length", String.valueOf(body.length));
    }
    if (lost) { // a container may write for ever to who has left
      try (IdleWatch hurry = new IdleWatch(DRAIN_PAUSE_MILLIS)) {
        write(hurry, code, answer, silent ? null : body);
      }
    } else {
      write(idle, code, answer, silent ? null : body);
    }
  }

  private void write(IdleWatch watch, int code, Headers answer, byte[] body) throws IOException {
    OutputStream[] out = new OutputStream[1];
    watch.within(
        () -> {
          out[0] = carrier.begin(code, answer, body == null ? 0 : body.length);
          return 0;
        });
    if (body == null) {
      return;
    }
    for (int at = 0; at < body.length; at += PIECE) {
      int from = at;
      int length = Math.min(PIECE, body.length - at);
      watch.within(
          () -> {
            out[0].write(body, from, length);
            return 0;
          });
      sent += length;
    }
    watch.within(
        () -> {
          out[0].flush();
          return 0;
        });
  }

  /** Reads on what is left of a request, and ends the exchange. */
  private void rest() throws IOException {
    if (carrier.length() != 0 && !bodyRead && !drain()) {
      carrier.abort();
      return;
    }
    carrier.end();
  }

  /**
   * Reads on after an early answer: a client that is still sending would lose it if the connection were closed. Tells whether
   * the request has ended as it should; after anything else nothing is a request.
   */
  private boolean drain() {
    long until = System.nanoTime() + DRAIN_MILLIS * 1_000_000;
    byte[] buffer = new byte[32 << 10];
    try (IdleWatch pause = new IdleWatch(DRAIN_PAUSE_MILLIS)) {
      InputStream in = carrier.body();
      for (long total = 0; total < DRAIN_BYTES && System.nanoTime() < until; ) {
        int n = pause.within(() -> in.read(buffer));
        if (n < 0) {
          return true;
        }
        total += n;
      }
    } catch (IOException | RuntimeException e) {
      return false;
    }
    return false;
  }

  private void refuse(Refused refused) throws IOException {
    synchronized (this) {
      if (early) {
        return;
      }
      progress = Progress.ANSWERING;
    }
    handler.end();
    refused.headers.forEach(headers::set);
    status = refused.problem.status();
    writeProblem(refused.problem, headers);
    rest();
  }

  private void writeProblem(Problem problem, Headers answer) throws IOException {
    if (problem.status() == 503 && answer.first("Retry-After") == null) {
      answer.set("Retry-After", "1");
    }
    answer.set("Content-Type", Media.PROBLEM);
    status = problem.status();
    write(problem.status(), answer, Problem.CODEC.toJson(problem).getBytes(StandardCharsets.UTF_8));
  }

  /** Turns what a handler failed with into what the caller may know of it. */
  private Refused problemOf(Throwable error) {
    Throwable e = error instanceof RefusedInHandler inside ? inside.why : error;
    failure = e;
    if (unavailable) {
      return new Refused(served.problem("unavailable", "the server is shutting down"));
    } else if (e instanceof Refused refused) {
      return refused;
    } else if (e instanceof DeclaredException declared) {
      return declared(declared);
    } else if (e instanceof NotImplementedCallException) {
      return new Refused(served.problem("not-implemented", call.name() + " is not implemented here"));
    } else if (e instanceof RefusalException refusal) {
      return refusal(refusal);
    } else if (e instanceof UnauthenticatedException) {
      return new Refused(served.problem("unauthenticated", e.getMessage()));
    } else if (e instanceof ForbiddenException) {
      return new Refused(served.problem("forbidden", e.getMessage()));
    } else if (e instanceof OverloadedException overloaded) {
      return overloaded(overloaded);
    }
    return internal(e);
  }

  private Refused internal(Throwable e) {
    failure = e;
    served.report(context, call.name(), e);
    return new Refused(served.problem("internal", ""));
  }

  private Refused declared(DeclaredException e) {
    if (!call.declares(e.errorName())) {
      return internal(
          new IllegalStateException(
              call.name() + " failed with " + e.errorName() + ", which it does not declare; add it to fails", e));
    }
    String fields;
    try {
      fields = e.toJson();
    } catch (PayloadException wrong) {
      return internal(wrong);
    }
    return new Refused(
        new Problem(
            options.base + "/-/errors/" + e.errorName(),
            served.definitions.title(e.errorName()),
            e.errorStatus(),
            "",
            "",
            List.of(),
            fields));
  }

  private Refused refusal(RefusalException e) {
    Problem p = e.problem();
    if (!p.violations().isEmpty()) {
      if (p.status() != 400 || !p.type().isEmpty() || !p.title().isEmpty()) {
        return internal(
            new IllegalStateException("a refusal with violations has the status 400, and no type or title of its own", e));
      }
      return invalid(p.violations());
    } else if (p.status() < 400 || p.status() > 599) {
      return internal(new IllegalStateException("a refusal has a status of 400 to 599, not " + p.status(), e));
    } else if (p.type().contains("/-/errors/")) {
      return internal(
          new IllegalStateException("the type \"" + p.type() + "\" of a refusal means an error of the definitions", e));
    }
    Problem full =
        new Problem(
            p.type().isEmpty() ? Problem.BLANK : p.type(),
            p.title().isEmpty() ? Statuses.text(p.status()) : p.title(),
            p.status(),
            p.detail(),
            p.instance(),
            List.of(),
            null);
    Duration pause = e.pause();
    return pause == null
        ? new Refused(full)
        : new Refused(
            full, Map.of("Retry-After", String.valueOf(Math.max(1, pause.plusNanos(999_999_999).toSeconds()))));
  }

  // Streams.

  private <H, Q, A> void send(Route<H, Q, A> route) throws Refused, IOException {
    ScheduledFuture<?> late = Timers.after(options.handlerTimeout.toMillis(), this::late);
    Q request;
    try {
      request = request(route.call.request);
    } finally {
      late.cancel(false);
    }
    if (!advance(Progress.RUNNING)) {
      finishLate();
      return;
    }
    context.request = request;
    headers.set("Content-Type", answerType);
    if (carrier.method().equals("HEAD")) {
      advance(Progress.ANSWERING);
      finish(call.status() == 0 ? 200 : call.status(), null);
      return;
    }
    OutputStream[] out = new OutputStream[1];
    StreamWriter.Sink sink =
        element -> {
          idle.within(
              () -> {
                if (out[0] == null) {
                  headers.set("X-Accel-Buffering", "no"); // proxies should pass elements on as they come
                  status = call.status() == 0 ? 200 : call.status();
                  out[0] = carrier.begin(status, headers, -1);
                }
                out[0].write(element);
                out[0].flush();
                return 0;
              });
          sent += element.length;
        };
    try (StreamWriter<A> writer =
        new StreamWriter<>(
            route.call.answer.codec,
            Media.encoding(answerType),
            true,
            options.elementLimit,
            options.heartbeat.toMillis(),
            element -> {
              try {
                sink.write(element);
              } catch (IOException e) {
                context.cancel();
                if (!handler.isCurrent()) { // a heartbeat found out that nobody is there
                  interruptHandler();
                }
                throw e;
              }
            })) {
      Throwable failed = null;
      try {
        handled(route, null, request, null, answers(writer));
      } catch (Throwable e) {
        failed = e;
      }
      handler.end();
      advance(Progress.ANSWERING);
      endStream(writer, failed);
    }
  }

  /** Ends an answer that is a stream: with its end, or with a problem. */
  private <A> void endStream(StreamWriter<A> writer, Throwable error) throws Refused, IOException {
    Throwable failed = unavailable && error == null ? new Unavailable() : error;
    if (writer.isBroken()) {
      failure = failed;
      carrier.abort(); // a client that has left is not an error of ours
      return;
    }
    if (failed == null) {
      writer.end();
    } else {
      Refused refused = problemOf(failed);
      if (!writer.hasBegun()) {
        headers.remove("Content-Type");
        throw refused;
      }
      writer.problem(refused.problem);
    }
    rest();
  }

  private <A> Answers<A> answers(StreamWriter<A> writer) {
    return element -> {
      if (unavailable) {
        throw new Unavailable();
      }
      try {
        writer.value(java.util.Objects.requireNonNull(element, "element"));
      } catch (IOException e) {
        throw StreamWriter.gone(e);
      }
    };
  }

  private <H, Q, A> void receive(Route<H, Q, A> route) throws Refused, IOException {
    String coding = came.first("Content-Encoding");
    if (!Compression.isPlain(coding)) {
      throw new Refused(served.problem("unsupported-form", "encoded bodies are not read: " + coding));
    }
    if (!requestType.equals(Media.CBOR_SEQ) && !requestType.equals(Media.JSON_SEQ)) {
      throw new Refused(
          served.problem(
              "unsupported-form",
              "Content-Type is application/cbor-seq or application/json-seq, not \"" + requestType + "\""));
    }
    if (!route.implemented) {
      throw problemOf(new NotImplementedCallException());
    }
    H head = route.call.head == null ? null : whole(route.call.head, new byte[0], null);
    context.request = head;
    Incoming<Q> elements = new Incoming<>(route.call.request, Media.encoding(requestType));
    if (!advance(Progress.RUNNING)) {
      finishLate();
      return;
    }
    A answer = null;
    Throwable failed = null;
    try {
      answer = handled(route, head, null, elements, null);
    } catch (Throwable e) {
      failed = e;
    }
    if (!advance(Progress.ANSWERING)) {
      finishLate();
      return;
    }
    if (elements.failed != null) {
      failed = elements.failed; // whatever the handler made of it, half a stream was not a request
    }
    if (failed instanceof LostException || (failed instanceof IOException && elements.failed != null)) {
      failure = failed;
      carrier.abort(); // nobody is there to be told
      return;
    }
    if (failed != null) {
      throw problemOf(failed);
    }
    answer(route.call.answer, route.answers(), answer);
  }

  /** Are the elements that come, each judged as a request is. */
  private final class Incoming<Q> implements Elements<Q> {
    private final Call.Side<Q> side;
    private final StreamReader<Q> reader;
    private Q next;
    private boolean ended;
    private Exception failed; // a Refused where the caller is at fault
    private int number;

    Incoming(Call.Side<Q> side, Encoding encoding) {
      this.side = side;
      reader =
          new StreamReader<>(
              side.codec,
              encoding,
              options.elementLimit,
              options.itemLimit,
              buffer -> carrier.length() == 0 ? -1 : read(buffer, 0, buffer.length));
    }

    @Override
    public boolean hasNext() {
      if (next == null && !ended) {
        advance();
      }
      return next != null;
    }

    @Override
    public Q next() {
      if (!hasNext()) {
        throw new NoSuchElementException("the stream has ended");
      }
      Q element = next;
      next = null;
      return element;
    }

    private void advance() {
      if (failed == null) {
        number++;
        try {
          StreamElement<Q> element = reader.next();
          switch (element.kind()) {
            case END -> {
              ended = true;
              reader.rest();
              bodyRead = true;
              return;
            }
            case PROBLEM -> failed = problemFromClient(element.problem());
            default -> {
              failed = refusedElement(side, element.value(), number);
              next = failed == null ? element.value() : null;
            }
          }
        } catch (IOException | PayloadException e) {
          failed = streamFailure(e, number);
        }
      }
      if (failed != null) {
        ended = false;
        throw new RefusedInHandler(failed);
      }
    }
  }

  /** Is what a client ended its stream with: not an error of ours, and nothing that it needs to be told of. */
  private Exception problemFromClient(String json) {
    try {
      Problem p = Problem.CODEC.fromJson(json);
      return new Refused(served.problem("invalid-request", "the stream ended with a problem: " + p.text()));
    } catch (PayloadException e) {
      return new Refused(served.problem("invalid-request", "the stream ended with a problem that can't be read"));
    }
  }

  private <Q> Refused refusedElement(Call.Side<Q> side, Q element, int number) {
    List<Violation> found = listed(side.violations.apply(element));
    return found.isEmpty()
        ? null
        : new Refused(
            served.problem("invalid-request", "element " + number + " of the stream is refused").with(found));
  }

  /** Turns what went wrong while reading a stream into what it is answered with. */
  private Exception streamFailure(Exception e, int number) {
    if (unavailable) {
      return new Refused(served.problem("unavailable", "the server is shutting down"));
    } else if (e instanceof LostException) {
      return bodyRead ? new Refused(served.problem("invalid-request", e.getMessage())) : e;
    } else if (e instanceof SocketTimeoutException) {
      return new Refused(served.problem("too-slow", "the stream was silent for too long"));
    } else if (e instanceof PayloadException payload) {
      if (payload.isTooLarge()) {
        return new Refused(served.problem("too-large", payload.detail()));
      }
      return new Refused(
          served
              .problem("invalid-request", "element " + number + " of the stream can't be read")
              .with(List.of(new Violation(payload.path(), payload.detail()))));
    } else if (e instanceof IOException && e.getMessage() != null && e.getMessage().contains("after the end")) {
      return new Refused(
          served
              .problem("invalid-request", "element " + number + " of the stream can't be read")
              .with(List.of(new Violation("", e.getMessage()))));
    }
    return new LostException(e);
  }

  // Both ways.

  private <H, Q, A> void converse(Route<H, Q, A> route) throws Refused, IOException {
    List<String> origins = came.all("Origin");
    if (origins.size() > 1 || (origins.size() == 1 && !allowsOrigin(origins.get(0)))) {
      throw new Refused(served.problem("forbidden", "a page of another site may not make this call"));
    } else if (!route.implemented) {
      throw problemOf(new NotImplementedCallException());
    }
    String protocol = "";
    for (String offered : String.join(",", came.all("Sec-WebSocket-Protocol")).split(",", -1)) {
      String one = offered.strip();
      if (protocol.isEmpty() && (one.equals("faithful-cbor") || one.equals("faithful-json"))) {
        protocol = one;
      }
    }
    Carrier.SocketUpgrade upgrade = carrier.upgrade();
    if (upgrade == null) {
      throw new Refused(
          served.problem("not-acceptable", "the call streams both ways, which this server can't do"),
          Map.of("Upgrade", "websocket"));
    } else if (protocol.isEmpty()) {
      throw new Refused(
          served.problem(
              "not-acceptable",
              "the call streams both ways: upgrade to a WebSocket with the subprotocol faithful-cbor or faithful-json"),
          Map.of("Upgrade", "websocket"));
    }
    H head = route.call.head == null ? null : whole(route.call.head, new byte[0], null);
    context.request = head;
    status = 101;
    detached = true;
    Encoding encoding = protocol.equals("faithful-cbor") ? Encoding.CBOR : Encoding.JSON;
    try {
      upgrade.accept(protocol, options.elementLimit, new Conversing<>(route, head, encoding, Trace.current().orElse(null)));
    } catch (IOException | RuntimeException e) {
      detached = false;
      throw e;
    }
  }

  /** Is a call that streams both ways, over a WebSocket. */
  private final class Conversing<H, Q, A> implements SocketListener, Elements<Q> {
    private final Route<H, Q, A> route;
    private final H head;
    private final Encoding encoding;
    private final Trace trace;
    private final ReentrantLock lock = new ReentrantLock();
    private final Condition changed = lock.newCondition();
    private byte[] came; // one message, ahead of who needs it
    private Throwable over; // why nothing more comes
    private boolean finished; // whether nobody needs more
    private Q next;
    private boolean ended;
    private Exception failed;
    private int number;

    Conversing(Route<H, Q, A> route, H head, Encoding encoding, Trace trace) {
      this.route = route;
      this.head = head;
      this.encoding = encoding;
      this.trace = trace;
    }

    @Override
    public void run(SocketPeer peer) {
      HandlerThread own = new HandlerThread();
      own.begin();
      handler = own;
      if (isOver()) {
        interruptHandler(); // the caller left before this thread was known
      }
      StreamWriter.Sink sink =
          element -> {
            idle.within(
                () -> {
                  peer.send(element);
                  return 0;
                });
            sent += element.length;
          };
      Trace.Scope scope = Trace.enter(trace);
      try (StreamWriter<A> writer =
          new StreamWriter<>(
              route.call.answer.codec, encoding, false, options.elementLimit, options.heartbeat.toMillis(), sink)) {
        Throwable error = null;
        try {
          handled(route, head, null, this, answers(writer));
        } catch (Throwable e) {
          error = e;
        }
        own.end();
        finish(peer, writer, failed == null ? error : failed);
      } catch (RuntimeException | Error e) {
        served.report(context, call.name(), e);
        peer.abort();
      } finally {
        scope.close();
        stop();
        own.end();
        watched();
        idle.close();
        served.leave(Exchange.this);
      }
    }

    private void finish(SocketPeer peer, StreamWriter<A> writer, Throwable error) {
      Throwable why = unavailable && error == null ? new Unavailable() : error;
      boolean gone = why instanceof LostException || writer.isBroken() || (why != null && isOver());
      if (gone) {
        failure = why;
        peer.abort(); // nobody is there to be told
        return;
      }
      try {
        if (why != null) {
          writer.problem(problemOf(why).problem);
          peer.close(1011);
          return;
        }
        writer.end();
        while (hasNextToDrop()) { // only after both ends do both know that nothing was lost
          next = null;
        }
        peer.close(1000);
      } catch (IOException | RuntimeException e) {
        failure = e;
        peer.abort();
      }
    }

    private boolean isOver() {
      lock.lock();
      try {
        return over != null;
      } finally {
        lock.unlock();
      }
    }

    private boolean hasNextToDrop() throws IOException {
      return !ended && element().kind() != StreamElement.Kind.END;
    }

    @Override
    public void message(byte[] message) {
      lock.lock();
      try {
        while (came != null && !finished) {
          changed.awaitUninterruptibly();
        }
        received += message.length;
        came = message;
        changed.signalAll();
      } finally {
        lock.unlock();
      }
    }

    @Override
    public void closed(Throwable why) {
      lock.lock();
      try {
        if (over == null) {
          over = why;
        }
        changed.signalAll();
        if (finished || ended) {
          return;
        }
      } finally {
        lock.unlock();
      }
      interruptHandler();
    }

    private void stop() {
      lock.lock();
      try {
        finished = true;
        changed.signalAll();
      } finally {
        lock.unlock();
      }
    }

    /** Takes what comes next. Only waiting for the peer counts as its silence. */
    private StreamElement<Q> element() throws IOException {
      byte[] message;
      lock.lock();
      try {
        long left = options.idleTimeout.toNanos();
        while (came == null) {
          if (unavailable) {
            throw new LostException(null);
          } else if (over != null) {
            if (over instanceof PayloadException e) {
              throw e;
            }
            throw new LostException(over);
          } else if (left <= 0) {
            throw new SocketTimeoutException("the stream was silent for too long");
          }
          left = changed.awaitNanos(left);
        }
        message = came;
        came = null;
        changed.signalAll();
      } catch (InterruptedException e) {
        throw new LostException(e);
      } finally {
        lock.unlock();
      }
      if (message.length > options.elementLimit + 16) {
        throw tooLargeElement(options.elementLimit);
      }
      return StreamElement.read(route.call.request.codec, message, encoding, options.itemLimit);
    }

    @Override
    public boolean hasNext() {
      if (failed != null) {
        throw new RefusedInHandler(failed);
      }
      while (next == null && !ended) {
        number++;
        try {
          StreamElement<Q> element = element();
          switch (element.kind()) {
            case VALUE -> {
              failed = refusedElement(route.call.request, element.value(), number);
              next = failed == null ? element.value() : null;
            }
            case END -> ended = true;
            case PROBLEM -> failed = problemFromClient(element.problem());
            default -> number--;
          }
        } catch (IOException | PayloadException e) {
          failed = streamFailure(e, number);
        }
        if (failed != null) {
          throw new RefusedInHandler(failed);
        }
      }
      return next != null;
    }

    @Override
    public Q next() {
      if (!hasNext()) {
        throw new NoSuchElementException("the stream has ended");
      }
      Q element = next;
      next = null;
      return element;
    }
  }

  /** Is what an element is refused with that has too many bytes. */
  static PayloadException tooLargeElement(int limit) {
    return PayloadException.tooLarge("an element of more than " + limit + " bytes");
  }

  // What every server answers, too.

  private void ownPage(String page) throws Refused, IOException {
    boolean reads = carrier.method().equals("GET") || carrier.method().equals("HEAD");
    if (!reads) {
      headers.set("Allow", "GET, HEAD");
      throw new Refused(served.problem("wrong-method", "pages below /-/ are read with GET"));
    }
    Definitions d = served.definitions;
    boolean isManual = !d.manual.isEmpty() && (page.equals("manual") || page.startsWith("manual/"));
    boolean isOpen = page.equals("about") || page.equals("definitions") || isManual;
    if (page.equals("state")) {
      boolean serving = isServing();
      headers.set("Content-Type", Media.JSON);
      deliver(serving ? 200 : 503, ascii("{\"serving\":" + serving + "}"));
      return;
    } else if (page.startsWith("errors/")) {
      errorPage(page.substring(7), page);
      return;
    } else if (!isOpen || options.quiet) {
      throw new Refused(served.problem("unknown-call", "there is no page /-/" + page));
    }
    if (options.guarded) {
      admitToPages();
    }
    if (isManual) {
      manualPage(page);
      return;
    }
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", d.name);
    answer.put("version", d.version);
    answer.put("digest", d.digest);
    if (page.equals("about")) {
      answer.put("calls", calls());
    } else {
      List<Map<String, String>> modules = new ArrayList<>();
      d.modules.forEach(
          (name, text) -> {
            Map<String, String> module = new LinkedHashMap<>();
            module.put("name", name);
            module.put("text", text);
            modules.add(module);
          });
      answer.put("modules", modules);
    }
    headers.set("Content-Type", Media.JSON);
    deliver(200, json(answer).getBytes(StandardCharsets.UTF_8));
  }

  /** Writes maps in their own order. */
  private static String json(Object value) {
    if (value instanceof Map<?, ?> map) {
      return map.entrySet().stream()
          .map(e -> json(e.getKey()) + ":" + json(e.getValue()))
          .collect(Collectors.joining(",", "{", "}"));
    } else if (value instanceof List<?> list) {
      return list.stream().map(Exchange::json).collect(Collectors.joining(",", "[", "]"));
    }
    return Any.CODEC.toJson(Any.of(value));
  }

  private static byte[] ascii(String text) {
    return text.getBytes(StandardCharsets.US_ASCII);
  }

  private boolean isServing() {
    if (served.isOver()) {
      return false;
    }
    try {
      return Boolean.TRUE.equals(options.serving.call());
    } catch (Exception | Error e) {
      served.report(null, "state", e);
      return false;
    }
  }

  private void errorPage(String name, String page) throws Refused, IOException {
    List<Definitions.Page> pages = new ArrayList<>(Definitions.COMMON);
    pages.addAll(served.definitions.errors);
    for (Definitions.Page p : pages) {
      if (p.name().equals(name)) {
        Map<String, Object> answer = new LinkedHashMap<>();
        answer.put("name", p.name());
        answer.put("status", p.status());
        answer.put("documentation", p.documentation());
        headers.set("Content-Type", Media.JSON);
        deliver(200, json(answer).getBytes(StandardCharsets.UTF_8));
        return;
      }
    }
    throw new Refused(served.problem("unknown-call", "there is no page /-/" + page));
  }

  private List<Map<String, String>> calls() {
    List<Map<String, String>> calls = new ArrayList<>();
    for (Route<?, ?, ?> r : served.routes) {
      Map<String, String> one = new LinkedHashMap<>();
      one.put("call", r.call.name());
      one.put("method", r.call.method());
      one.put("path", options.base + r.call.path());
      calls.add(one);
    }
    calls.sort(Comparator.comparing((Map<String, String> c) -> c.get("path")).thenComparing(c -> c.get("method")));
    return calls;
  }

  private void admitToPages() throws Refused {
    List<List<Credential>> any = new ArrayList<>();
    Map<String, String> credentials = new LinkedHashMap<>();
    for (Route<?, ?, ?> r : served.routes) {
      for (List<Credential> all : r.call.needs()) {
        for (Credential c : all) {
          any.add(List.of(c));
          String value = shown(c);
          if (value != null) {
            credentials.put(c.name(), value);
          }
        }
      }
    }
    judge(new Context(null, came, headers, carrier.peer()), any, "definitions", credentials);
  }

  private void manualPage(String page) throws Refused, IOException {
    if (page.equals("manual")) { // links of the first page lead from below the folder
      headers.set("Location", options.base + "/-/manual/");
      deliver(308, new byte[0]);
      return;
    }
    String name = page.substring("manual/".length());
    name = name.isEmpty() ? "index.html" : name;
    byte[] body;
    try {
      body = served.manualPage(name);
    } catch (RuntimeException e) {
      served.report(null, "manual", e);
      throw new Refused(served.problem("internal", ""));
    }
    if (body == null) {
      throw new Refused(served.problem("unknown-call", "the manual has no page \"" + name + "\""));
    }
    String type = name.endsWith(".html") ? "text/html" : name.endsWith(".css") ? "text/css" : "text/javascript";
    headers.set("Content-Type", type + "; charset=utf-8");
    headers.set(
        "Content-Security-Policy",
        "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' blob:; "
            + "base-uri 'none'; form-action 'none'; frame-ancestors 'none'");
    headers.set("X-Content-Type-Options", "nosniff");
    headers.set("Cache-Control", "no-cache");
    deliver(200, body);
  }

  // Watching.

  private void watch() {
    if (options.watcher == null) {
      return;
    }
    start = Instant.now();
    startNanos = System.nanoTime();
    try {
      watcher = options.watcher.apply(context);
    } catch (RuntimeException | Error e) {
      served.report(context, call.name(), e);
    }
  }

  private void watched() {
    if (watcher == null) {
      return;
    }
    Duration took = Duration.ofNanos(System.nanoTime() - startNanos);
    try {
      watcher.accept(new Watched(start, took, status, 0, received, sent, failure));
    } catch (RuntimeException | Error e) {
      served.report(context, call.name(), e);
    }
  }
}
