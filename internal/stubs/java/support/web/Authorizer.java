package faithfulcourier.web;

import java.util.Map;

/** Judges the credentials of a request. */
@FunctionalInterface
public interface Authorizer {
  /**
   * Lets a request in by returning.
   *
   * @param context of the call, for which it may keep who calls
   * @param credentials the values that the request came with, by full name; of basic credentials "user:password"
   * @throws UnauthenticatedException if it does not know who calls
   * @throws ForbiddenException if it knows, and says no
   * @throws Exception anything else is answered with 500
   */
  void authorize(Context context, Map<String, String> credentials) throws Exception;
}
