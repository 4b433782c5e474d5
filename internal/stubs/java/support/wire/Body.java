package faithfulcourier.wire;

import java.io.ByteArrayInputStream;
import java.io.FilterInputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.UncheckedIOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.Objects;

/**
 * Is a body that travels as it is, and is read as it comes: a photo, say. What comes is to be read to its end or closed;
 * what is sent is closed in the end.
 */
public final class Body extends FilterInputStream {
  private final String mediaType;
  private final long length;
  private final Source again;

  /** Opens a body from its start. */
  @FunctionalInterface
  public interface Source {
    /**
     * Opens it.
     *
     * @return the bytes
     * @throws IOException if it can't be opened
     */
    InputStream open() throws IOException;
  }

  private Body(String mediaType, InputStream in, long length, Source again) {
    super(in);
    this.mediaType = Objects.requireNonNull(mediaType, "mediaType");
    this.length = length;
    this.again = again;
  }

  /**
   * Makes a body of bytes.
   *
   * @param mediaType such as "image/png"; an empty text where the definitions allow one alone
   * @param content the bytes, which are not copied
   * @return the body
   */
  public static Body of(String mediaType, byte[] content) {
    return new Body(
        mediaType, new ByteArrayInputStream(content), content.length, () -> new ByteArrayInputStream(content));
  }

  /**
   * Makes a body of a stream, which can't be sent again when it was read.
   *
   * @param mediaType such as "image/png"; an empty text where the definitions allow one alone
   * @param content the bytes
   * @param length how many there are, or -1 where that is not known
   * @return the body
   */
  public static Body of(String mediaType, InputStream content, long length) {
    return new Body(mediaType, Objects.requireNonNull(content, "content"), length, null);
  }

  /**
   * Makes a body of a file.
   *
   * @param mediaType such as "image/png"; an empty text where the definitions allow one alone
   * @param file where the bytes are
   * @return the body
   * @throws UncheckedIOException if the file can't be read
   */
  public static Body of(String mediaType, Path file) {
    try {
      return new Body(mediaType, Files.newInputStream(file), Files.size(file), () -> Files.newInputStream(file));
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  /** {@return the media type, such as "image/png", or an empty text} */
  public String mediaType() {
    return mediaType;
  }

  /** {@return how many bytes there are, or -1 where that is not known} */
  public long length() {
    return length;
  }

  /** {@return whether it can be sent a second time} */
  public boolean isRepeatable() {
    return again != null;
  }

  /**
   * Opens it from the start.
   *
   * @return the bytes
   * @throws IOException if it can't be opened
   */
  public InputStream reopen() throws IOException {
    return again == null ? this : again.open();
  }

  @Override
  public String toString() {
    return "(" + (length < 0 ? "a body" : length + " bytes") + (mediaType.isEmpty() ? ")" : " of " + mediaType + ")");
  }
}
