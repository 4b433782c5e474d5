package faithfulcourier.web;

import java.util.Iterator;

/**
 * Are the elements of a request that is a stream, as they come, each judged as a request is. They can be gone through
 * once. What is wrong with the stream is thrown; whatever a handler makes of that, its caller gets the reason.
 *
 * @param <T> the type of the elements
 */
@SuppressWarnings("IterableAndIterator") // for a loop: what comes comes once
public interface Elements<T> extends Iterable<T>, Iterator<T> {
  @Override
  default Iterator<T> iterator() {
    return this;
  }
}
