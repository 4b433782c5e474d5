package faithfulcourier.web;

import faithfulcourier.wire.Codec;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.Splitter;
import faithfulcourier.wire.StreamElement;
import java.io.EOFException;
import java.io.IOException;

/** Reads elements as they come. */
final class StreamReader<T> {
  /** How many blanks may follow the end of a stream in JSON. */
  private static final int MOST_BLANKS = 64 << 10;

  /** Reads some bytes, as an input stream does. */
  interface Source {
    int read(byte[] buffer) throws IOException;
  }

  private final Codec<T> codec;
  private final Encoding encoding;
  private final Splitter splitter;
  private final int budget;
  private final Source source;
  private final byte[] buffer = new byte[8192];

  StreamReader(Codec<T> codec, Encoding encoding, int limit, int budget, Source source) {
    this.codec = codec;
    this.encoding = encoding;
    this.budget = budget;
    this.source = source;
    splitter = new Splitter(encoding, limit + 16);
  }

  /** Reads one element that is not a heartbeat; a stream that is over without its end is lost. */
  StreamElement<T> next() throws IOException {
    while (true) {
      byte[] bytes = splitter.next();
      if (bytes == null) {
        if (!fill()) {
          throw new LostException(null);
        }
        continue;
      }
      StreamElement<T> element = StreamElement.read(codec, bytes, encoding, budget);
      if (element.kind() != StreamElement.Kind.OTHER) {
        return element;
      }
    }
  }

  private boolean fill() throws IOException {
    int n;
    try {
      n = source.read(buffer);
    } catch (EOFException e) {
      throw new LostException(e);
    }
    if (n > 0) {
      splitter.add(buffer, 0, n);
    }
    return n >= 0;
  }

  /** Makes sure that nothing follows the end. */
  void rest() throws IOException {
    for (int blanks = 0; blanks <= MOST_BLANKS; blanks += 1) {
      if (splitter.rest() > 0) {
        throw new IOException("bytes after the end of the stream");
      }
      splitter.clear();
      int n = source.read(buffer);
      if (n < 0) {
        return;
      }
      splitter.add(buffer, 0, n);
      blanks += n;
    }
    throw new IOException("blanks without end after the end of the stream");
  }
}
