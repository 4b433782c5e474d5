package faithfulcourier.web;

import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;

/** Is one request and its answer, as a library of servers carries them. */
interface Carrier {
  String method();

  /** Is path and query, as they were sent. */
  String target();

  Headers headers();

  /** Is how many bytes the body has: 0 for none, -1 where that is not known. */
  long length();

  InputStream body() throws IOException;

  /** Is the address of the other side. */
  String peer();

  /**
   * Begins the answer.
   *
   * @param length of the body: 0 for none, -1 where that is not known
   */
  OutputStream begin(int status, Headers headers, long length) throws IOException;

  /** Ends the answer as it should be. */
  void end() throws IOException;

  /** Breaks the connection, so that nobody takes what was sent for whole. */
  void abort();

  /** Upgrades to a WebSocket; null where that can't be done here. */
  default SocketUpgrade upgrade() {
    return null;
  }

  /** Carries out an upgrade: what the carrier had is not used after it. */
  interface SocketUpgrade {
    void accept(String protocol, int limit, SocketListener listener) throws IOException;
  }
}
