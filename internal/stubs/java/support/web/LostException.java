package faithfulcourier.web;

import java.io.IOException;

/** Is a stream that ended without its end. */
final class LostException extends IOException {
  private static final long serialVersionUID = 1L;

  LostException(Throwable cause) {
    super("the connection ended before the stream did", cause);
  }
}
