package conformance.matrix;

import conformance.gen.faithful.web.Answers;
import conformance.gen.faithful.web.Context;
import conformance.gen.faithful.web.Elements;
import conformance.gen.faithful.web.ForbiddenException;
import conformance.gen.faithful.web.HttpServerMount;
import conformance.gen.faithful.web.Middleware;
import conformance.gen.faithful.web.OverloadedException;
import conformance.gen.faithful.web.Served;
import conformance.gen.faithful.web.ServerOptions;
import conformance.gen.faithful.web.Trace;
import conformance.gen.faithful.web.UnauthenticatedException;
import conformance.gen.faithful.wire.Body;
import conformance.gen.skerry.matrix.Back;
import conformance.gen.skerry.matrix.BerthAnswer;
import conformance.gen.skerry.matrix.BerthRequest;
import conformance.gen.skerry.matrix.Boarded;
import conformance.gen.skerry.matrix.CountRequest;
import conformance.gen.skerry.matrix.Crate;
import conformance.gen.skerry.matrix.CrateRequest;
import conformance.gen.skerry.matrix.EchoAnswer;
import conformance.gen.skerry.matrix.EchoRequest;
import conformance.gen.skerry.matrix.Ended;
import conformance.gen.skerry.matrix.Forgotten;
import conformance.gen.skerry.matrix.Gangway;
import conformance.gen.skerry.matrix.HangRequest;
import conformance.gen.skerry.matrix.Hung;
import conformance.gen.skerry.matrix.Hush;
import conformance.gen.skerry.matrix.Load;
import conformance.gen.skerry.matrix.LookRequest;
import conformance.gen.skerry.matrix.MoveRequest;
import conformance.gen.skerry.matrix.Moved;
import conformance.gen.skerry.matrix.Nothing;
import conformance.gen.skerry.matrix.Photo;
import conformance.gen.skerry.matrix.PhotoRequest;
import conformance.gen.skerry.matrix.Pier;
import conformance.gen.skerry.matrix.PierFull;
import conformance.gen.skerry.matrix.RefuseRequest;
import conformance.gen.skerry.matrix.Scanned;
import conformance.gen.skerry.matrix.SleepRequest;
import conformance.gen.skerry.matrix.Stamp;
import conformance.gen.skerry.matrix.StampRequest;
import conformance.gen.skerry.matrix.Tale;
import conformance.gen.skerry.matrix.Tick;
import conformance.gen.skerry.matrix.Total;
import conformance.gen.skerry.matrix.Unloaded;
import conformance.gen.skerry.matrix.Works;
import java.io.IOException;
import java.io.InputStream;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.time.Duration;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.concurrent.atomic.AtomicLong;

/** The server of the matrix in Java. */
public final class Server extends Pier {
  private final AtomicLong seen = new AtomicLong();
  private final AtomicInteger running = new AtomicInteger();
  private final AtomicLong whole = new AtomicLong();
  private final AtomicLong lost = new AtomicLong();
  private final Map<Long, Long> tries = new ConcurrentHashMap<>();

  /** Who is signed in. */
  record Crew(String name) {}

  /** Is a photo that is made as it goes: each byte is its place, modulo 251. */
  private static final class Made extends InputStream {
    private final long size;
    private final long fails;
    private long at;

    Made(long size, long fails) {
      this.size = size;
      this.fails = fails;
    }

    @Override
    public int read() {
      byte[] one = new byte[1];
      return read(one, 0, 1) < 0 ? -1 : one[0] & 0xff;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) {
      if (at == fails) {
        throw new IllegalStateException("the password is wrong");
      } else if (at == size) {
        return -1;
      }
      long end = Math.min(size, at + length);
      if (fails >= 0) {
        end = Math.min(end, fails);
      }
      int n = (int) (end - at);
      for (int i = 0; i < n; i++) {
        buffer[offset + i] = (byte) (at++ % 251);
      }
      return n;
    }
  }

  /** Is so much of nothing. */
  static final class Zeros extends InputStream {
    private long left;

    Zeros(long size) {
      left = size;
    }

    @Override
    public int read() {
      return left-- > 0 ? 0 : -1;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) {
      if (left <= 0) {
        return -1;
      }
      int n = (int) Math.min(left, length);
      java.util.Arrays.fill(buffer, offset, offset + n, (byte) 0);
      left -= n;
      return n;
    }
  }

  private static Boarded boarded(Gangway at, long total) {
    Boarded.Builder b = Boarded.builder().code(at.code()).decks(at.decks()).total(total);
    at.device().ifPresent(b::device);
    at.visit().ifPresent(b::visit);
    return b.build();
  }

  /** Counts how a stream comes out. */
  private boolean next(Elements<Tick> elements) {
    try {
      boolean more = elements.hasNext();
      if (!more) {
        whole.incrementAndGet();
      }
      return more;
    } catch (RuntimeException e) {
      lost.incrementAndGet();
      throw e;
    }
  }

  @Override
  public EchoAnswer echo(EchoRequest request, Context context) {
    return EchoAnswer.builder()
        .request(request)
        .trace(Trace.current().map(Trace::parent).orElse(null))
        .build();
  }

  @Override
  public BerthAnswer berth(BerthRequest request, Context context) {
    return BerthAnswer.builder()
        .code(request.code())
        .number(request.number())
        .side(request.side())
        .decks(request.decks())
        .since(request.since().orElse(null))
        .ticket(request.ticket().orElse(null))
        .name(request.name())
        .wait_(request.wait_())
        .build();
  }

  @Override
  public LookRequest look(LookRequest request, Context context) {
    return request;
  }

  @Override
  public Stamp stamp(StampRequest request, Context context) {
    return Stamp.builder()
        .tag("\"" + request.code() + "\"")
        .cache(request.code().equals("kept") ? "max-age=60" : null)
        .count(request.code().length())
        .visit(request.visit().orElse(null))
        .name(request.code())
        .how(request.how().orElse(null))
        .build();
  }

  @Override
  public Moved move(MoveRequest request, Context context) {
    return Moved.builder().at(request.to()).note("moved, to: ü").build();
  }

  @Override
  public Forgotten forget(StampRequest request, Context context) {
    boolean isNumber = request.code().chars().allMatch(Character::isDigit);
    return Forgotten.builder().visit("").left(isNumber ? Long.valueOf(request.code()) : null).build();
  }

  @Override
  public Hung hang(HangRequest request, Context context) throws IOException {
    long size = 0;
    long sum = 0;
    byte[] buffer = new byte[65536];
    for (int n = request.photo().read(buffer); n >= 0; n = request.photo().read(buffer)) {
      size += n;
      for (int i = 0; i < n; i++) {
        sum += buffer[i] & 0xff;
      }
    }
    return Hung.builder()
        .name(request.name())
        .size(size)
        .kind(request.photo().mediaType())
        .sum(sum)
        .label(request.label().orElse(null))
        .tags(request.tags())
        .build();
  }

  @Override
  public Photo photo(PhotoRequest request, Context context) {
    Made made = new Made(request.size(), request.fails().orElse(-1L));
    return Photo.builder()
        .photo(Body.of("image/x-made", made, request.known() ? request.size() : -1))
        .name(request.name())
        .tag("\"" + request.name() + "\"")
        .build();
  }

  @Override
  public Hush hush(EchoRequest request, Context context) {
    return Hush.builder().text(request.text().orElse("")).build();
  }

  @Override
  public Tale tale(StampRequest request, Context context) {
    return Tale.builder().tag("\"" + request.code() + "\"").text(request.code().repeat(1000)).build();
  }

  @Override
  public Total stow(Crate request, Context context) throws IOException {
    long total = 0;
    byte[] buffer = new byte[65536];
    for (int n = request.load().read(buffer); n >= 0; n = request.load().read(buffer)) {
      total += n;
    }
    return total(total);
  }

  private static Total total(long n) {
    return Total.builder().total(n).build();
  }

  @Override
  public Unloaded unload(CrateRequest request, Context context) {
    return Unloaded.builder().load(Body.of("", new Zeros(request.size()), request.size())).build();
  }

  @Override
  public Back back(Scanned request, Context context) {
    return Back.builder().roll(Body.of(request.roll().mediaType(), request.roll(), -1)).build();
  }

  @Override
  public Nothing ping(Nothing request, Context context) {
    return request;
  }

  @Override
  public void leave(LookRequest request, Context context) {}

  @Override
  public void count(CountRequest request, Answers<Tick> answers, Context context) {
    String text = request.size() == 0 ? null : "x".repeat((int) request.size());
    long fails = request.failsAfter().orElse(-1L);
    for (long n = 0; n < request.count(); n++) {
      if (n == fails) {
        throw request.badly() ? new IllegalStateException("the password is wrong") : full(n);
      }
      answers.send(Tick.builder().n(n).text(text).build());
    }
  }

  private static PierFull full(long berths) {
    return PierFull.builder().berths(berths).build();
  }

  @Override
  public Total sum(Elements<Tick> elements, Context context) throws InterruptedException {
    long total = 0;
    while (next(elements)) {
      Tick tick = elements.next();
      String text = tick.text().orElse("");
      if (text.equals("stop")) {
        break;
      } else if (text.equals("full")) {
        throw full(tick.n());
      } else if (text.equals("slow")) {
        Thread.sleep(20);
      }
      total += tick.n();
    }
    return total(total);
  }

  @Override
  public void mirror(Elements<Tick> elements, Answers<Tick> answers, Context context) {
    while (next(elements)) {
      Tick tick = elements.next();
      if (tick.text().orElse("").equals("full")) {
        throw full(tick.n());
      }
      answers.send(tick);
    }
  }

  @Override
  public Boarded board(Gangway head, Elements<Tick> elements, Context context) {
    if (head.code().equals("full")) {
      throw full(0);
    } else if (context.request().orElse(null) != head) {
      throw new IllegalStateException("the context has another head");
    }
    long total = head.since();
    for (Tick tick : elements) {
      total += tick.n();
    }
    return boarded(head, total);
  }

  @Override
  public void file(Gangway head, Elements<Tick> elements, Answers<Boarded> answers, Context context) {
    long total = head.since();
    for (Tick tick : elements) {
      total += tick.n();
      answers.send(boarded(head, total));
    }
  }

  @Override
  public Ended ended(Context context) {
    return Ended.builder().whole(whole.get()).lost(lost.get()).build();
  }

  @Override
  public Total guardedSum(Elements<Tick> elements, Context context) throws InterruptedException {
    return sum(elements, context);
  }

  @Override
  public void guardedMirror(Elements<Tick> elements, Answers<Tick> answers, Context context) {
    mirror(elements, answers, context);
  }

  @Override
  public void refuse(RefuseRequest request, Context context) throws Exception {
    switch (request.how()) {
      case "hang" -> new CountDownLatch(1).await();
      case "declared" -> throw full(7);
      case "null" -> throw new NullPointerException("the password is null");
      case "panic" -> throw new AssertionError("the password is wrong");
      default -> throw new IllegalStateException("the password is wrong");
    }
  }

  private void sleep() throws InterruptedException {
    try {
      Thread.sleep(1_000_000);
    } finally {
      seen.incrementAndGet();
    }
  }

  @Override
  public void sleep(SleepRequest request, Context context) throws InterruptedException {
    sleep();
  }

  @Override
  public void drift(SleepRequest request, Answers<Tick> answers, Context context) throws InterruptedException {
    try {
      for (long n = 0; ; n++) {
        Thread.sleep(25); // hundreds of these run at once, each in a thread
        answers.send(Tick.builder().n(Math.min(n, 2_000_000)).build());
      }
    } finally {
      seen.incrementAndGet();
    }
  }

  @Override
  public Total weigh(Load request, Context context) {
    return total(request.wide().size() + request.counts().size() + request.texts().size());
  }

  @Override
  public Load repeat(Load request, Context context) {
    return request;
  }

  @Override
  public void tail(SleepRequest request, Answers<Tick> answers, Context context) throws InterruptedException {
    sleep();
  }

  @Override
  public void hold(Elements<Tick> elements, Answers<Tick> answers, Context context) throws InterruptedException {
    sleep();
  }

  @Override
  public Works works(Context context) {
    // Those of containers are theirs: pools of a bounded size.
    long ours =
        Thread.getAllStackTraces().keySet().stream().filter(t -> t.getName().startsWith("faithful-")).count();
    return Works.builder().handlers(running.get()).tasks(ours).build();
  }

  @Override
  public Total woken(Context context) {
    return total(seen.get());
  }

  @Override
  public EchoAnswer guarded(Context context) {
    return EchoAnswer.builder()
        .request(EchoRequest.builder().names(Map.of()).build())
        .crew(context.get(Crew.class).map(Crew::name).orElse(null))
        .build();
  }

  @Override
  public Total flaky(SleepRequest request, Context context) {
    long number = tries.merge(request.id(), 1L, Long::sum);
    if (number < 3) {
      throw new OverloadedException(Duration.ZERO);
    }
    return total(number);
  }

  private void runs(Context context, Middleware.Next next) throws Exception {
    running.incrementAndGet();
    try {
      next.run();
    } finally {
      running.decrementAndGet();
    }
  }

  private static void authorize(Context context, Map<String, String> credentials) {
    String desk = credentials.getOrDefault("skerry.matrix.desk", "");
    switch (desk) {
      case "panic" -> throw new IllegalStateException("the authorizer fell");
      case "stolen" -> throw new ForbiddenException("this key was stolen");
      case "expired" -> throw new UnauthenticatedException("this key has expired");
      default -> {}
    }
    String crew = credentials.get("skerry.matrix.crew");
    if (crew != null) {
      context.put(Crew.class, new Crew(crew));
    }
  }

  private static Duration idle(String[] args) {
    return Duration.ofMillis(args.length > 2 ? (long) (1000 * Double.parseDouble(args[2])) : 60_000);
  }

  static Served served(String[] args) {
    Server server = new Server();
    ServerOptions.Builder options =
        ServerOptions.builder()
            .middleware(server::runs)
            .authorizer(Server::authorize)
            .elementLimit(200_000)
            .bodyLimit(args.length > 4 ? Long.parseLong(args[4]) : 300_000)
            .heartbeat(Duration.ofMillis(args.length > 1 ? (long) (1000 * Double.parseDouble(args[1])) : 15_000))
            .idleTimeout(idle(args))
            .base(args.length > 3 ? args[3] : "")
            .cookie("visit", c -> c.maxAge(Duration.ofHours(1)).sameSite("Strict"));
    String origins = System.getenv("MATRIX_ORIGINS");
    if (origins != null && !origins.isEmpty()) {
      options.origins(origins.split(" "));
    }
    switch (String.valueOf(System.getenv("MATRIX_DEFINITIONS"))) {
      case "guarded" -> options.guardedDefinitions();
      case "hidden" -> options.withoutDefinitions();
      default -> {}
    }
    return Pier.serve(server, options.build());
  }

  /** Starts the server: port, seconds of heartbeat and idleness, base and limit of bodies. */
  public static void main(String[] args) throws Exception {
    int port = args.length > 0 ? Integer.parseInt(args[0]) : 0;
    Served served = served(args);
    int bound =
        switch (System.getProperty("matrix.server", "jdk")) {
          case "jetty" -> Containers.jetty(served, port);
          case "tomcat" -> Containers.tomcat(served, port, idle(args));
          default -> HttpServerMount.start(served, new InetSocketAddress(InetAddress.getLoopbackAddress(), port)).port();
        };
    System.out.println("listening on http://127.0.0.1:" + bound);
  }
}
