package ferry;

import ferry.gen.faithful.web.ForbiddenException;
import ferry.gen.faithful.web.Served;
import ferry.gen.faithful.web.ServerOptions;
import ferry.gen.faithful.web.ServletMount;
import ferry.gen.skerry.booking.Bookings;
import ferry.gen.skerry.fleet.Fleet;
import ferry.gen.skerry.quay.Quay;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.util.Map;
import org.eclipse.jetty.ee10.servlet.ServletContextHandler;
import org.eclipse.jetty.ee10.servlet.ServletHolder;
import org.eclipse.jetty.ee10.websocket.jakarta.server.config.JakartaWebSocketServletContainerInitializer;
import org.eclipse.jetty.server.ServerConnector;

/** The server of the Skerry Line, in Jetty: an example of how generated servers are used. */
public final class Server {
  private Server() {}

  /**
   * Serves until it is interrupted.
   *
   * @param arguments the address to listen at, or none for a free port
   * @throws Exception if it can't listen there
   */
  public static void main(String[] arguments) throws Exception {
    String listen = arguments.length > 0 ? arguments[0] : "127.0.0.1:0";
    int colon = listen.lastIndexOf(':');
    String host = listen.substring(0, colon);
    InetSocketAddress address = new InetSocketAddress(host, Integer.parseInt(listen.substring(colon + 1)));
    org.eclipse.jetty.server.Server jetty = new org.eclipse.jetty.server.Server(address);
    ServletContextHandler context = new ServletContextHandler("/");
    ServletHolder holder = new ServletHolder(new ServletMount(services()));
    holder.setAsyncSupported(true);
    context.addServlet(holder, "/*");
    JakartaWebSocketServletContainerInitializer.configure(context, null);
    jetty.setHandler(context);
    jetty.start();
    ServerConnector connector = (ServerConnector) jetty.getConnectors()[0];
    System.out.println("listening on http://" + host + ":" + connector.getLocalPort());
  }

  static Served services() {
    Line line = new Line();
    ServerOptions options =
        ServerOptions.builder()
            .authorizer((context, credentials) -> authorize(credentials))
            .onError((context, call, failure) -> System.err.println(call + ": " + failure))
            .build();
    return Served.join(
        Bookings.serve(new BookingsDesk(line), options),
        Fleet.serve(new FleetDesk(line)),
        Quay.serve(new QuayDesk(line)));
  }

  /** Lets in whoever shows the key of the door; a real one would look at the crew's token, too. */
  private static void authorize(Map<String, String> credentials) {
    String key = credentials.get("skerry.quay.door");
    if (key != null && !MessageDigest.isEqual(bytes(key), bytes("north pier"))) {
      throw new ForbiddenException("this is not the key of a door");
    }
  }

  private static byte[] bytes(String text) {
    return text.getBytes(StandardCharsets.UTF_8);
  }
}
