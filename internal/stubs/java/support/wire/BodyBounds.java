package faithfulcourier.wire;

import java.util.Locale;

/** Is what the definitions say of a body that is sent as it is: a media type, and how long it may be. */
public final class BodyBounds {
  private final String mediaType;
  private final long low;
  private final long high;

  /**
   * Makes the bounds.
   *
   * @param mediaType whose subtype or all of which may be *
   * @param low how many bytes it has at least
   * @param high how many it has at most; 0 is no limit
   */
  public BodyBounds(String mediaType, long low, long high) {
    this.mediaType = mediaType;
    this.low = low;
    this.high = high;
  }

  /** {@return the media type that the definitions give, whose subtype or all of which may be *} */
  public String mediaType() {
    return mediaType;
  }

  /** {@return how many bytes a body has at most; 0 is no limit} */
  public long high() {
    return high;
  }

  /**
   * Is the media type with which a body is sent: its own, or the only one that the definitions allow.
   *
   * @param own the body's own, or an empty text
   * @return the media type, or an empty text where it is missing
   */
  public String typeOf(String own) {
    return own.isEmpty() && mediaType.indexOf('*') < 0 ? mediaType : own;
  }

  /**
   * Tells whether the definitions allow a media type.
   *
   * @param type the media type, whose parameters do not count
   * @return whether they do
   */
  public boolean allows(String type) {
    int semicolon = type.indexOf(';');
    String bare = (semicolon < 0 ? type : type.substring(0, semicolon)).strip().toLowerCase(Locale.ROOT);
    if (mediaType.equals("*/*")) {
      return bare.indexOf('/') >= 0;
    }
    return mediaType.endsWith("*")
        ? bare.startsWith(mediaType.substring(0, mediaType.length() - 1))
        : bare.equals(mediaType);
  }

  /**
   * Adds what is known to be wrong before a body is read.
   *
   * @param v what it is added to
   * @param step from here to the body
   * @param body the body
   */
  public void violations(Violations v, String step, Body body) {
    String type = typeOf(body.mediaType());
    if (type.isEmpty()) {
      v.refuse(step, "needs its media type: " + mediaType);
    } else if (!allows(type)) {
      v.refuse(step, "must be " + mediaType + ", not " + type);
    }
    if (body.length() >= 0) {
      String outside = outside(body.length());
      if (!outside.isEmpty()) {
        v.refuse(step, outside);
      }
    }
  }

  /**
   * Says what is wrong with a length.
   *
   * @param length in bytes
   * @return what is wrong, or an empty text
   */
  public String outside(long length) {
    if (length >= low && (high == 0 || length <= high)) {
      return "";
    } else if (high == 0) {
      return "must have at least " + low + " bytes, not " + length;
    } else if (low == 0) {
      return "must have at most " + high + " bytes, not " + length;
    }
    return "must have " + low + " to " + high + " bytes, not " + length;
  }
}
