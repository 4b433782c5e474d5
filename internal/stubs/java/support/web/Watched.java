package faithfulcourier.web;

import java.time.Duration;
import java.time.Instant;

/**
 * Is how a call went.
 *
 * @param start when it began
 * @param duration how long it took
 * @param status HTTP, of the last try; 0 where no answer began
 * @param tries how often a client sent it; 0 for servers, and where nothing was sent
 * @param received bytes of the body that came, or of a stream's elements; of all tries
 * @param sent bytes of the body that went; of all tries
 * @param failed what the call failed with, in the middle of a stream, too, or null. At a server it is null for what the
 *     server refused by itself; at a client it is what the caller gets, but null for <code>NotModifiedException</code>
 */
public record Watched(
    Instant start, Duration duration, int status, int tries, long received, long sent, Throwable failed) {}
