package faithfulcourier.web;

/**
 * Takes the elements of an answer that is a stream.
 *
 * @param <T> the type of the elements
 */
@FunctionalInterface
public interface Answers<T> {
  /**
   * Sends one element, and waits while its reader is slow.
   *
   * @param element what is sent
   * @throws java.util.concurrent.CancellationException if the reader has left
   */
  void send(T element);
}
