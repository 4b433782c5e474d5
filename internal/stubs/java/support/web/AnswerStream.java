package faithfulcourier.web;

import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.StreamElement;
import java.io.IOException;
import java.io.InputStream;
import java.net.SocketTimeoutException;
import java.util.Iterator;
import java.util.NoSuchElementException;

/**
 * Is a stream that answers a call, as it comes. It ends without an exception only if it is complete: a connection that is
 * lost always throws one. Close it, which cancels the call where the stream goes on.
 *
 * @param <T> the type of the elements
 */
@SuppressWarnings("IterableAndIterator") // for a loop: what comes comes once
public final class AnswerStream<T> implements Iterator<T>, Iterable<T>, AutoCloseable {
  private final Call<?, ?, T> call;
  private final int status;
  private final InputStream in;
  private final Client.Watching watching;
  private final StreamReader<T> reader;
  private T next;
  private boolean over;
  private boolean closed;

  AnswerStream(
      Client client, Call<?, ?, T> call, int status, Encoding encoding, InputStream in, Client.Watching watching) {
    this.call = call;
    this.status = status;
    this.in = in;
    this.watching = watching;
    reader =
        new StreamReader<>(call.answer.codec, encoding, client.elementLimit(), client.itemLimit(), this::read);
  }

  private int read(byte[] buffer) throws IOException {
    int n = in.read(buffer);
    watching.received.addAndGet(Math.max(0, n));
    return n;
  }

  @Override
  public Iterator<T> iterator() {
    return this;
  }

  /**
   * Tells whether another element comes, and waits for it.
   *
   * @return whether one does
   * @throws UnreachableException if the connection is lost, or silent for too long
   * @throws BadAnswerException if what came is not understood
   * @throws ProblemException if the server ended the stream with a problem that the call does not declare
   */
  @Override
  public boolean hasNext() {
    if (next != null) {
      return true;
    }
    if (over) {
      return false;
    }
    try {
      StreamElement<T> element = reader.next();
      if (element.kind() == StreamElement.Kind.VALUE) {
        next = element.value();
        return true;
      } else if (element.kind() == StreamElement.Kind.PROBLEM) {
        throw Client.typed(call, Problem.CODEC.fromJson(element.problem()));
      }
      reader.rest();
      end(null);
      return false;
    } catch (PayloadException e) {
      throw ended(new BadAnswerException(call.name(), status, e.getMessage(), e));
    } catch (SocketTimeoutException e) {
      throw ended(
          new UnreachableException(
              call.name(), UnreachableException.Reason.TIMED_OUT, "the stream was silent for too long", e));
    } catch (IOException e) {
      boolean cancelled = closed || Thread.currentThread().isInterrupted();
      UnreachableException.Reason reason =
          cancelled ? UnreachableException.Reason.CANCELLED : UnreachableException.Reason.LOST;
      throw ended(new UnreachableException(call.name(), reason, String.valueOf(e.getMessage()), e));
    } catch (RuntimeException e) {
      throw ended(e);
    }
  }

  private RuntimeException ended(RuntimeException e) {
    end(e);
    return e;
  }

  private void end(Throwable error) {
    over = true;
    Client.close(in);
    watching.end(error);
  }

  @Override
  public T next() {
    if (!hasNext()) {
      throw new NoSuchElementException("the stream has ended");
    }
    T element = next;
    next = null;
    return element;
  }

  /** Gives up what has not come; the handler on the other side is cancelled. */
  @Override
  public void close() {
    closed = true;
    if (!over) {
      end(null);
    }
  }
}
