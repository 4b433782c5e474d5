package faithfulcourier.wire;

/** Is what both readers share: the payload, where they are in it, and how much more it may contain. */
public abstract sealed class Reader permits CborReader, JsonReader {
  final byte[] data;
  int at;
  int depth;
  int budget;

  Reader(byte[] data, int budget) {
    this.data = data;
    this.budget = budget;
  }

  final PayloadException failure(int where, String detail) {
    return new PayloadException(detail, where, false);
  }

  final void enter(int where) {
    if (++depth > Writer.MAX_DEPTH) {
      throw failure(where, "a nesting over " + Writer.MAX_DEPTH);
    }
  }

  final void spend(int n) {
    if ((budget -= n) < 0) {
      throw new PayloadException("more elements and entries than a payload may contain", at, true);
    }
  }

  /**
   * Marks a field as read, and refuses it the second time.
   *
   * @param seen a bit for each field
   * @param index of the field
   * @return the bits with one more
   */
  public final long once(long seen, int index) {
    long bit = 1L << index;
    if ((seen & bit) != 0) {
      throw failure(at, "the field comes twice");
    }
    return seen | bit;
  }

  /**
   * Refuses a message that lacks a required field.
   *
   * @param seen a bit for each field that was read
   * @param required a bit for each field that must be there
   * @param fields those of the message
   * @param first the index of the field of the lowest bit
   */
  public final void require(long seen, long required, Fields fields, int first) {
    long missing = required & ~seen;
    if (missing != 0) {
      throw failure(at, "the field is required").inside(fields.name(first + Long.numberOfTrailingZeros(missing)));
    }
  }

  final PayloadException twice() {
    return failure(at, "a key of the map comes twice");
  }
}
