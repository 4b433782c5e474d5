package faithfulcourier.wire;

/** The two ways in which payloads are written. */
public enum Encoding {
  /** Binary payloads (RFC 8949). */
  CBOR("application/cbor"),
  /** Payloads as text (RFC 8259), in UTF-8. */
  JSON("application/json");

  private final String mediaType;

  Encoding(String mediaType) {
    this.mediaType = mediaType;
  }

  /** {@return the media type of bodies in this encoding} */
  public String mediaType() {
    return mediaType;
  }
}
