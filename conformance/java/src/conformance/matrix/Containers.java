package conformance.matrix;

import conformance.gen.faithful.web.Served;
import conformance.gen.faithful.web.ServletMount;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import org.apache.catalina.Context;
import org.apache.catalina.Wrapper;
import org.apache.catalina.connector.Connector;
import org.apache.catalina.startup.Tomcat;
import org.apache.tomcat.websocket.server.WsSci;
import org.eclipse.jetty.ee10.servlet.ServletContextHandler;
import org.eclipse.jetty.ee10.servlet.ServletHolder;
import org.eclipse.jetty.ee10.websocket.jakarta.server.config.JakartaWebSocketServletContainerInitializer;
import org.eclipse.jetty.http.UriCompliance;
import org.eclipse.jetty.server.HttpConfiguration;
import org.eclipse.jetty.server.HttpConnectionFactory;
import org.eclipse.jetty.server.ServerConnector;

/** Serves a mount in servlet containers. */
final class Containers {
  private Containers() {}

  static int jetty(Served served, int port) throws Exception {
    HttpConfiguration http = new HttpConfiguration();
    http.setUriCompliance(UriCompliance.UNSAFE); // a slash may be part of a path's field
    http.setSendServerVersion(false);
    org.eclipse.jetty.server.Server server = new org.eclipse.jetty.server.Server();
    ServerConnector connector = new ServerConnector(server, new HttpConnectionFactory(http));
    connector.setHost("127.0.0.1");
    connector.setPort(port);
    connector.setAcceptQueueSize(1000); // tests connect all at once
    connector.setIdleTimeout(60_000);
    server.addConnector(connector);
    ServletContextHandler context = new ServletContextHandler("/");
    context.getServletHandler().setDecodeAmbiguousURIs(true);
    ServletHolder holder = new ServletHolder(new ServletMount(served));
    holder.setAsyncSupported(true);
    context.addServlet(holder, "/*");
    JakartaWebSocketServletContainerInitializer.configure(context, null);
    server.setHandler(context);
    server.start();
    return connector.getLocalPort();
  }

  static int tomcat(Served served, int port, Duration idle) throws Exception {
    Path folder = Files.createTempDirectory("matrix-tomcat-");
    Tomcat tomcat = new Tomcat();
    tomcat.setBaseDir(folder.toString());
    Connector connector = new Connector();
    connector.setPort(port);
    connector.setProperty("address", "127.0.0.1");
    connector.setEncodedSolidusHandling("passthrough"); // a slash may be part of a path's field
    connector.setProperty("maxSwallowSize", "-1");
    connector.setProperty("processorCache", "0"); // what is left of a broken exchange must not reach another one
    connector.setProperty("acceptCount", "1000"); // tests connect all at once
    connector.setProperty("connectionTimeout", String.valueOf(idle.toMillis())); // its writes heed no interrupt
    tomcat.setConnector(connector);
    Context context = tomcat.addContext("", folder.toString());
    context.addServletContainerInitializer(new WsSci(), null);
    Wrapper wrapper = Tomcat.addServlet(context, "faithful", new ServletMount(served));
    wrapper.setAsyncSupported(true);
    context.addServletMappingDecoded("/*", "faithful");
    tomcat.start();
    return connector.getLocalPort();
  }
}
