package faithfulcourier.web;

import java.io.IOException;

/** Is the other side of a WebSocket (RFC 6455), as a library carries it. */
interface SocketPeer {
  /** Sends one message; the bytes are text where JSON was agreed to. */
  void send(byte[] message) throws IOException;

  /** Closes the connection with a status. */
  void close(int status);

  /** Breaks the connection. */
  void abort();
}
