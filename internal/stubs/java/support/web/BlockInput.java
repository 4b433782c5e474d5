package faithfulcourier.web;

import java.io.IOException;
import java.io.InputStream;

/** Is what is read in blocks; a byte is a block of one. */
abstract class BlockInput extends InputStream {
  @Override
  public final int read() throws IOException {
    byte[] one = new byte[1];
    return read(one, 0, 1) < 0 ? -1 : one[0] & 0xff;
  }

  @Override
  public abstract int read(byte[] buffer, int offset, int length) throws IOException;
}
