package faithfulcourier.web;

/** Serves a call over a WebSocket (RFC 6455), whatever library carries that. */
interface SocketListener {
  /** Serves it, on a thread of its own, once the connection is open. */
  void run(SocketPeer peer);

  /** Takes one message, and waits until somebody needs the next one. */
  void message(byte[] message);

  /** Hears that the connection is over. */
  void closed(Throwable why);
}
