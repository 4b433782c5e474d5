package faithfulcourier.web;

import faithfulcourier.wire.BodyBounds;
import faithfulcourier.wire.Codec;
import faithfulcourier.wire.DeclaredException;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.Violation;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Function;
import java.util.stream.Collectors;

/**
 * Is what both sides know of one call.
 *
 * @param <H> the head of a request that is a stream
 * @param <Q> the request, or an element of it
 * @param <A> the answer, or an element of it
 */
public final class Call<H, Q, A> {
  private static final Set<Integer> REDIRECTS = Set.of(301, 302, 303, 307, 308);

  private final String name;
  private final String method;
  private final String path;
  private final int status;
  private final boolean safe;
  private final boolean idempotent;
  private final boolean compressible;
  private final List<List<Credential>> needs;
  private final Map<String, Codec<? extends DeclaredException>> fails;
  final Side<H> head;
  final Side<Q> request;
  final Side<A> answer;
  final boolean requestStream;
  final boolean answerStream;

  /** Is one side's message: how it is read, written and judged. */
  static final class Side<M> {
    final Codec<M> codec; // null where it has none of its own
    final Travel<M, ?> travel; // null where all of it is in the body
    final Function<M, List<Violation>> violations;

    Side(Codec<M> codec, Travel<M, ?> travel, Function<M, List<Violation>> violations) {
      this.codec = codec;
      this.travel = travel;
      this.violations = violations;
    }

    boolean hasBody() {
      return travel == null || travel.hasBody();
    }

    List<Placed> placed() {
      return travel == null ? List.of() : travel.placed();
    }

    BodyBounds raw() {
      return travel == null ? null : travel.raw();
    }

    /** Is what of a message is in the body. */
    byte[] toBytes(M message, Encoding encoding) {
      return travel == null ? codec.toBytes(message, encoding) : travel.toBytes(message, encoding);
    }

    M read(Encoding encoding, byte[] body, int budget) {
      return encoding == Encoding.CBOR ? codec.fromCbor(body, budget) : codec.fromJson(body, budget);
    }
  }

  private Call(Builder<H, Q, A> b) {
    name = b.name;
    method = b.method;
    path = b.path;
    status = b.status;
    safe = b.safe;
    idempotent = b.idempotent;
    compressible = b.compressible;
    needs = List.copyOf(b.needs);
    fails = b.fails;
    head = b.head;
    request = b.request;
    answer = b.answer;
    requestStream = b.requestStream;
    answerStream = b.answerStream;
  }

  /**
   * Begins a call.
   *
   * @param name its full name: module, service and call
   * @param method of its requests
   * @param path below the base; "{field}" is the place of a segment
   * @return a builder
   */
  public static Builder<Void, Void, Void> of(String name, String method, String path) {
    return new Builder<>(name, method, path);
  }

  /** {@return its full name: module, service and call} */
  public String name() {
    return name;
  }

  /** {@return the method of its requests} */
  public String method() {
    return method;
  }

  /** {@return its path below the base, in which "{field}" is the place of a segment} */
  public String path() {
    return path;
  }

  /** {@return whether it reads only} */
  public boolean isSafe() {
    return safe;
  }

  /** {@return whether it may be sent again} */
  public boolean isIdempotent() {
    return idempotent || safe;
  }

  /** {@return the credentials that it needs: one of these, of it all} */
  public List<List<Credential>> needs() {
    return needs;
  }

  int status() {
    return status;
  }

  boolean isCompressible() {
    return compressible;
  }

  boolean bothWays() {
    return requestStream && answerStream;
  }

  /** Is what of a request may travel outside of the body: the request itself, or the head of a stream. */
  Side<?> placedSide() {
    return requestStream ? head : request;
  }

  List<Placed> placed() {
    return placedSide() == null ? List.of() : placedSide().placed();
  }

  BodyBounds raw() {
    return requestStream || request == null ? null : request.raw();
  }

  BodyBounds answerRaw() {
    return answerStream || answer == null ? null : answer.raw();
  }

  boolean inCookies() {
    return placed().stream().anyMatch(p -> p.in().equals("cookie"))
        || (!answerStream && answer != null && answer.placed().stream().anyMatch(p -> p.in().equals("cookie")));
  }

  /** Tells whether its success sends the client elsewhere (RFC 9110, section 15.4). */
  boolean redirects() {
    return REDIRECTS.contains(status);
  }

  boolean succeeds(int answered) {
    return redirects() ? REDIRECTS.contains(answered) : answered >= 200 && answered <= 299;
  }

  /** Reads the error that it declares under a name; null where it declares none. */
  DeclaredException failure(String error, byte[] fields) {
    Codec<? extends DeclaredException> codec = fails.get(error);
    return codec == null ? null : codec.fromJson(fields);
  }

  boolean declares(String error) {
    return fails.containsKey(error);
  }

  String needsText() {
    return needs.stream()
        .map(
            all ->
                all.isEmpty()
                    ? "nothing"
                    : all.stream().map(Credential::shortName).collect(Collectors.joining(" + ")))
        .collect(Collectors.joining(" | "));
  }

  @Override
  public String toString() {
    return name;
  }

  /**
   * Makes what both sides know of a call.
   *
   * @param <H> the head of a request that is a stream
   * @param <Q> the request, or an element of it
   * @param <A> the answer, or an element of it
   */
  public static final class Builder<H, Q, A> {
    private final String name;
    private final String method;
    private final String path;
    private int status;
    private boolean safe;
    private boolean idempotent;
    private boolean compressible;
    private final List<List<Credential>> needs;
    private final Map<String, Codec<? extends DeclaredException>> fails;
    private Side<H> head;
    private Side<Q> request;
    private Side<A> answer;
    private boolean requestStream;
    private boolean answerStream;

    private Builder(String name, String method, String path) {
      this.name = name;
      this.method = method;
      this.path = path;
      needs = new ArrayList<>();
      fails = new LinkedHashMap<>();
    }

    private Builder(Builder<?, ?, ?> other, Side<H> head, Side<Q> request, Side<A> answer) {
      name = other.name;
      method = other.method;
      path = other.path;
      status = other.status;
      safe = other.safe;
      idempotent = other.idempotent;
      compressible = other.compressible;
      needs = other.needs;
      fails = other.fails;
      requestStream = other.requestStream;
      answerStream = other.answerStream;
      this.head = head;
      this.request = request;
      this.answer = answer;
    }

    /**
     * Sets the status of success where that is not 200, or 204 without an answer.
     *
     * @param code the status
     * @return this
     */
    public Builder<H, Q, A> status(int code) {
      status = code;
      return this;
    }

    /**
     * Says that the call reads only.
     *
     * @return this
     */
    public Builder<H, Q, A> safe() {
      safe = true;
      return this;
    }

    /**
     * Says that the call may be sent again.
     *
     * @return this
     */
    public Builder<H, Q, A> idempotent() {
      idempotent = true;
      return this;
    }

    /**
     * Says that answers may be compressed.
     *
     * @return this
     */
    public Builder<H, Q, A> compressible() {
      compressible = true;
      return this;
    }

    /**
     * Adds credentials that let a caller in.
     *
     * @param all what has to be shown together
     * @return this
     */
    public Builder<H, Q, A> needs(Credential... all) {
      needs.add(List.of(all));
      return this;
    }

    /**
     * Adds an error that the call declares.
     *
     * @param error its full name
     * @param codec of its class
     * @return this
     */
    public Builder<H, Q, A> fails(String error, Codec<? extends DeclaredException> codec) {
      fails.put(error, codec);
      return this;
    }

    /**
     * Sets what comes before a request that is a stream.
     *
     * @param <N> its message
     * @param codec of the message
     * @param travel how its fields travel
     * @return the builder to go on with
     */
    public <N> Builder<N, Q, A> head(Codec<N> codec, Travel<N, ?> travel) {
      return new Builder<>(this, new Side<>(codec, travel, codec::violations), request, answer);
    }

    /**
     * Sets the request.
     *
     * @param <N> its message
     * @param codec of the message
     * @param travel how its fields travel; null for all in the body
     * @return the builder to go on with
     */
    public <N> Builder<H, N, A> request(Codec<N> codec, Travel<N, ?> travel) {
      return new Builder<>(this, head, new Side<>(codec, travel, codec::violations), answer);
    }

    /**
     * Sets a request with a body that is one field as it is.
     *
     * @param <N> its message
     * @param travel how its fields travel
     * @param violations lists what is wrong with it
     * @return the builder to go on with
     */
    public <N> Builder<H, N, A> rawRequest(Travel<N, ?> travel, Function<N, List<Violation>> violations) {
      return new Builder<>(this, head, new Side<>(null, travel, violations), answer);
    }

    /**
     * Sets the elements of a request that is a stream.
     *
     * @param <N> their message
     * @param codec of the message
     * @return the builder to go on with
     */
    public <N> Builder<H, N, A> requests(Codec<N> codec) {
      Builder<H, N, A> b = request(codec, null);
      b.requestStream = true;
      return b;
    }

    /**
     * Sets the answer.
     *
     * @param <N> its message
     * @param codec of the message
     * @param travel how its fields travel; null for all in the body
     * @return the builder to go on with
     */
    public <N> Builder<H, Q, N> answer(Codec<N> codec, Travel<N, ?> travel) {
      return new Builder<>(this, head, request, new Side<>(codec, travel, codec::violations));
    }

    /**
     * Sets an answer with a body that is one field as it is.
     *
     * @param <N> its message
     * @param travel how its fields travel
     * @param violations lists what is wrong with it
     * @return the builder to go on with
     */
    public <N> Builder<H, Q, N> rawAnswer(Travel<N, ?> travel, Function<N, List<Violation>> violations) {
      return new Builder<>(this, head, request, new Side<>(null, travel, violations));
    }

    /**
     * Sets the elements of an answer that is a stream.
     *
     * @param <N> their message
     * @param codec of the message
     * @return the builder to go on with
     */
    public <N> Builder<H, Q, N> answers(Codec<N> codec) {
      Builder<H, Q, N> b = answer(codec, null);
      b.answerStream = true;
      return b;
    }

    /**
     * Ends the call.
     *
     * @return it
     */
    public Call<H, Q, A> build() {
      return new Call<>(this);
    }
  }
}
