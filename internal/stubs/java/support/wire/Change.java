package faithfulcourier.wire;

import java.util.NoSuchElementException;
import java.util.Objects;
import java.util.Optional;
import java.util.function.Function;

/**
 * Is what a patch does to a field: it leaves it, sets it, or clears it.
 *
 * @param <T> the type of the field
 */
public final class Change<T> {
  private static final Change<?> LEFT = new Change<>(null, false);
  private static final Change<?> CLEARED = new Change<>(null, true);

  private final T value;
  private final boolean cleared;

  private Change(T value, boolean cleared) {
    this.value = value;
    this.cleared = cleared;
  }

  /**
   * Is the change that leaves a field as it is.
   *
   * @param <T> the type of the field
   * @return the change
   */
  public static <T> Change<T> left() {
    return LEFT.with(null);
  }

  /**
   * Is the change that gives a field a value.
   *
   * @param <T> the type of the field
   * @param value what it gets
   * @return the change
   */
  public static <T> Change<T> set(T value) {
    return new Change<>(Objects.requireNonNull(value, "value"), false);
  }

  /**
   * Is the change that makes a field absent, or gives it its default.
   *
   * @param <T> the type of the field
   * @return the change
   */
  public static <T> Change<T> clear() {
    return CLEARED.with(null);
  }

  private <U> Change<U> with(U other) {
    return new Change<>(other, cleared);
  }

  /** {@return whether the field stays as it is} */
  public boolean isLeft() {
    return value == null && !cleared;
  }

  /** {@return whether the field gets a value} */
  public boolean isSet() {
    return value != null;
  }

  /** {@return whether the field is cleared} */
  public boolean isCleared() {
    return cleared;
  }

  /**
   * {@return the value that the field gets}
   *
   * @throws NoSuchElementException if it gets none
   */
  public T value() {
    if (value == null) {
      throw new NoSuchElementException("the patch does not set the field");
    }
    return value;
  }

  /** {@return the value that the field gets, if it gets one} */
  public Optional<T> toOptional() {
    return Optional.ofNullable(value);
  }

  /**
   * Is the same change of what a function makes of its value.
   *
   * @param <U> what the function makes
   * @param make is applied to the value, if there is one
   * @return the change
   */
  public <U> Change<U> map(Function<T, U> make) {
    return value == null ? with(null) : set(make.apply(value));
  }

  @Override
  public boolean equals(Object other) {
    return other instanceof Change<?> o && cleared == o.cleared && Values.same(value, o.value);
  }

  @Override
  public int hashCode() {
    return Values.hash(value) * 31 + Boolean.hashCode(cleared);
  }

  @Override
  public String toString() {
    return value != null ? "set" : cleared ? "clear" : "left";
  }
}
