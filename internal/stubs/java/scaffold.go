package java

import (
	_ "embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/value"
)

// Options returns the keys of Java.
func (Language) Options() []stubs.Option {
	return []stubs.Option{
		{Key: "package", Doc: "the package that all others are in; required"},
		{Key: "servlet", Default: "false", Doc: "adds servers for servlet containers, which need jakarta.servlet-api and " +
			"jakarta.websocket-api"},
		{Key: "jackson", Default: "false", Doc: "adds a module for Jackson, which needs jackson-databind"},
	}
}

// Spring is the framework that a scaffold may be for.
const spring = "spring"

// Frameworks are those that Scaffold can write a server for.
func (Language) Frameworks() []string { return []string{spring} }

// Next lists the commands that test and run what Scaffold wrote.
func (Language) Next(into string, options stubs.Options) []string {
	var next []string
	if options.Client {
		next = append(next, "mvn -f "+into+" test")
	}
	return append(next, "mvn -f "+into+" package", "java -jar "+path.Join(into, "target/server.jar"))
}

// Scaffold writes a Maven project: a main program, and for the service a package with the class whose calls are to be
// written, and a test for each call, which fails until it is.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.Start {
	w := &starter{service: s, options: options, root: "server"}
	if i := strings.LastIndexByte(options.Package, '.'); i > 0 {
		w.root = options.Package[:i] + ".server"
	}
	folder := options.Folder
	if slices.Contains(keywords, folder) {
		folder += "_"
	}
	w.home = w.root + "." + folder
	container := containerfile
	if options.Framework == spring {
		container = containerfileSpring
	}
	w.starts = append(w.starts, w.pom(),
		stubs.Start{File: stubs.File{Path: "build/GenerateStubs.java", Content: []byte(generateStubs)}},
		stubs.Start{File: stubs.File{Path: "Containerfile", Content: []byte(container)}})
	if options.Framework == spring {
		w.starts = append(w.starts, stubs.Start{File: stubs.File{Path: "src/main/resources/application.properties",
			Content: []byte(springSettings)}})
	}
	w.program()
	w.class()
	if options.Client {
		for _, c := range s.Calls {
			w.test(c)
		}
	}
	return w.starts
}

//go:embed project/GenerateStubs.java
var generateStubs string

//go:embed project/Containerfile
var containerfile string

//go:embed project/Containerfile-spring
var containerfileSpring string

//go:embed project/application.properties
var springSettings string

//go:embed project/pom.xml
var pom string

//go:embed project/pom-spring.xml
var pomSpring string

// starter writes the files of one service.
type starter struct {
	service *schema.Service
	options stubs.Options
	root    string // the package of the main program
	home    string // that of the service
	starts  []stubs.Start
}

// pom tells Maven how the server is built. Its sources are those of the scaffold, and the stubs.
func (w *starter) pom() stubs.Start {
	text := pom
	if w.options.Framework == spring {
		text = pomSpring
	}
	group, _, _ := strings.Cut(w.root, ".server")
	filled := strings.NewReplacer("GROUP", group, "MAIN", w.root+"."+w.main(), "STUBS", w.options.Into,
		"OPTIONAL", w.optional())
	return stubs.Start{File: stubs.File{Path: "pom.xml", Content: []byte(filled.Replace(text))}}
}

// optional are the libraries that optional stubs compile against.
func (w *starter) optional() string {
	var b strings.Builder
	library := func(group, artifact, version string) {
		fmt.Fprintf(&b, "    <dependency>\n      <groupId>%s</groupId>\n      <artifactId>%s</artifactId>\n", group, artifact)
		fmt.Fprintf(&b, "      <version>%s</version>\n      <scope>provided</scope>\n    </dependency>\n", version)
	}
	if w.options.Framework == spring {
		return "" // which brings them
	}
	if w.options.Servlet {
		library("jakarta.servlet", "jakarta.servlet-api", "6.0.0")
		library("jakarta.websocket", "jakarta.websocket-api", "2.1.1")
		library("jakarta.websocket", "jakarta.websocket-client-api", "2.1.1")
	}
	if w.options.Jackson {
		library("com.fasterxml.jackson.core", "jackson-databind", "2.18.3")
	}
	return b.String()
}

func (w *starter) main() string {
	if w.options.Framework == spring {
		return "Application"
	}
	return "Main"
}

// self is the class that serves the service.
func (w *starter) self() string { return w.service.Name + "Service" }

// add writes a class.
func (w *starter) add(folder, packageName, name string, write func(f *file), joins ...stubs.Join) {
	f := program(w.options, packageName, name)
	write(f)
	w.starts = append(w.starts, stubs.Start{File: stubs.File{Path: w.path(folder, packageName, name),
		Content: []byte(f.source())}, Joins: joins})
}

func (w *starter) path(folder, packageName, name string) string {
	return fmt.Sprintf("src/%s/java/%s/%s.java", folder, strings.ReplaceAll(packageName, ".", "/"), name)
}

// mounted is what makes the mount of the service.
func (w *starter) mounted(f *file) string {
	return fmt.Sprintf("%s.serve(new %s())", f.service(w.service, ""), f.use(w.home+"."+w.self()))
}

func (w *starter) program() {
	write := w.jdk
	if w.options.Framework == spring {
		write = w.spring
	}
	w.add("main", w.root, w.main(), write)
}

func (w *starter) jdk(f *file) {
	served, text := f.web("Served"), f.lang("String")
	f.doc("Serves every service over the HTTP server of the JDK.", "")
	f.In("public final class Main {", func() {
		f.P("private Main() {}")
		f.P("")
		f.doc("Serves until the process is terminated. Calls that are running then have 10 s to end; streams end with a\n"+
			"problem that says why.", "", "@param arguments the address to listen at, or none for 127.0.0.1:8080",
			"@throws Exception if it can't listen there")
		f.In(fmt.Sprintf("public static void main(%s[] arguments) throws %s {", text, f.lang("Exception")), func() {
			f.P("%s listen = arguments.length > 0 ? arguments[0] : \"127.0.0.1:8080\";", text)
			f.P("int colon = listen.lastIndexOf(':');")
			f.P("%s address =", f.use("java.net.InetSocketAddress"))
			f.P("    new InetSocketAddress(listen.substring(0, colon), %s.parseInt(listen.substring(colon + 1)));",
				f.lang("Integer"))
			f.P("%s served = services();", served)
			f.P("%s.Running running = HttpServerMount.start(served, address);", f.web("HttpServerMount"))
			f.P("%s.getRuntime().addShutdownHook(new %s(() -> stop(served, running)));", f.lang("Runtime"), f.lang("Thread"))
			f.P("%s.out.println(\"listening at http://\" + listen);", f.lang("System"))
		}, "}")
		f.P("")
		f.doc("Is every service, each with what it depends on.", "", "@return their mount")
		f.In(fmt.Sprintf("static %s services() {", served), func() {
			f.P("return %s.join(", served)
			f.P("    %s);", w.mounted(f))
		}, "}")
		f.P("")
		f.In(fmt.Sprintf("private static void stop(%s served, HttpServerMount.Running running) {", served), func() {
			f.In("try {", func() { f.P("served.shutdown(%s.ofSeconds(10));", f.use("java.time.Duration")) },
				fmt.Sprintf("} catch (%s e) {", f.lang("InterruptedException")))
			f.Deeper(1, func() { f.P("%s.currentThread().interrupt();", f.lang("Thread")) })
			f.P("}")
			f.P("running.close();")
		}, "}")
	}, "}")
}

func (w *starter) spring(f *file) {
	served, mount, text := f.web("Served"), f.web("ServletMount"), f.lang("String")
	bean := f.use("org.springframework.context.annotation.Bean")
	f.doc("Serves every service in a Spring Boot application.", "")
	f.P("@%s", f.use("org.springframework.boot.autoconfigure.SpringBootApplication"))
	f.In("public class Application {", func() {
		f.doc("Starts it.", "", "@param arguments what Spring Boot takes, such as {@code --server.port=8081}")
		f.In(fmt.Sprintf("public static void main(%s[] arguments) {", text), func() {
			f.P("%s.run(Application.class, arguments);", f.use("org.springframework.boot.SpringApplication"))
		}, "}")
		f.P("")
		f.doc("Is every service, each with what it depends on.", "", "@return their mount")
		f.P("@%s", bean)
		f.In(fmt.Sprintf("%s services() {", served), func() {
			f.P("return %s.join(", served)
			f.P("    %s);", w.mounted(f))
		}, "}")
		f.P("")
		registration := f.use("org.springframework.boot.web.servlet.ServletRegistrationBean")
		f.doc("Registers the servlet that serves them: all paths, so that other controllers need a path of their own.", "",
			"@param services their mount", "@return the registration")
		f.P("@%s", bean)
		f.In(fmt.Sprintf("%s<%s> servlet(%s services) {", registration, mount, served), func() {
			f.P("%s<%s> servlet = new %s<>(new %s(services), \"/*\");", registration, mount, registration, mount)
			f.P("servlet.setLoadOnStartup(1);")
			f.P("return servlet;")
		}, "}")
		f.P("")
		f.doc("Ends streams and finishes calls before the container stops.", "", "@param services their mount",
			"@return does it")
		f.P("@%s", bean)
		event := f.use("org.springframework.context.event.ContextClosedEvent")
		listener := f.use("org.springframework.context.ApplicationListener")
		f.In(fmt.Sprintf("%s<%s> finishing(%s services) {", listener, event, served), func() {
			f.P("return new %s<>() {", listener)
			f.Deeper(1, func() {
				f.P("%s", f.override())
				f.In(fmt.Sprintf("public void onApplicationEvent(%s event) {", event), func() {
					f.In("try {", func() { f.P("services.shutdown(%s.ofSeconds(10));", f.use("java.time.Duration")) },
						fmt.Sprintf("} catch (%s e) {", f.lang("InterruptedException")))
					f.Deeper(1, func() { f.P("%s.currentThread().interrupt();", f.lang("Thread")) })
					f.P("}")
				}, "}")
			})
			f.P("};")
		}, "}")
	}, "}")
}

// class writes the class whose calls are to be written.
func (w *starter) class() {
	main := w.path("main", w.root, w.main())
	stub := w.options.Package + "." + Below(w.service.Module) + "." + w.service.Name
	join := stubs.Join{Path: main, Lines: []string{"import " + stub + ";", "import " + w.home + "." + w.self() + ";",
		fmt.Sprintf("%s.serve(new %s()), // among the arguments of Served.join", w.service.Name, w.self())}}
	w.add("main", w.home, w.self(), func(f *file) {
		f.doc(fmt.Sprintf("Serves %s. What its calls depend on (a database, other clients, a clock) goes into the "+
			"constructor.\n\n"+
			"Override a call to implement it; one that is not overridden answers 501, and its test fails.%s",
			w.service.FullName(), w.asIn()), "")
		f.In(fmt.Sprintf("public final class %s extends %s {", w.self(), f.service(w.service, "")), func() {
			f.doc("Makes the service.", "")
			f.P("public %s() {}", w.self())
		}, "}")
	}, join)
}

// asIn shows how the first call is overridden, with the short names of its types, which the class does not import yet.
func (w *starter) asIn() string {
	if len(w.service.Calls) == 0 {
		return ""
	}
	c := w.service.Calls[0]
	result := "void"
	var parameters []string
	if c.Head != nil {
		parameters = append(parameters, c.Head.Name+" head")
	}
	switch {
	case c.RequestStream:
		parameters = append(parameters, "Elements<"+c.Request.Name+"> elements")
	case c.Request != nil:
		parameters = append(parameters, c.Request.Name+" request")
	}
	switch {
	case c.ResponseStream:
		parameters = append(parameters, "Answers<"+c.Response.Name+"> answers")
	case c.Response != nil:
		result = c.Response.Name
	}
	parameters = append(parameters, "Context context")
	return fmt.Sprintf(" Begin with:\n`public %s %s(%s)`", result, CallName(c), strings.Join(parameters, ", "))
}

// test writes a test that starts the real server and makes a call.
func (w *starter) test(c *schema.Call) {
	name := syntax.PascalCase(c.Name) + "Test"
	w.add("test", w.home, name, func(f *file) {
		f.doc(fmt.Sprintf("Starts the server and calls %s.", c.FullName()), "")
		if w.options.Framework == spring {
			f.P("@%s(classes = %s.class, webEnvironment = SpringBootTest.WebEnvironment.RANDOM_PORT)",
				f.use("org.springframework.boot.test.context.SpringBootTest"), f.use(w.root+".Application"))
		}
		f.In(fmt.Sprintf("final class %s {", name), func() { w.exchanging(f, c) }, "}")
	})
}

func (w *starter) exchanging(f *file, c *schema.Call) {
	method := safe(c.Name, keywords, members)
	base := `"http://127.0.0.1:" + server.port()`
	var steps []string
	for _, sample := range stubs.SampleCredentials(c) {
		steps = append(steps, fmt.Sprintf(".credential(%s, %s)", quote(sample[0]), quote(sample[1])))
	}
	if w.options.Framework == spring {
		f.P("@%s private int port;", f.use("org.springframework.boot.test.web.server.LocalServerPort"))
		f.P("")
		base = `"http://127.0.0.1:" + port`
	}
	f.P("@%s", f.use("org.junit.jupiter.api.Test"))
	f.In(fmt.Sprintf("void %s() throws %s {", method, f.lang("Exception")), func() {
		if w.options.Framework == spring {
			f.clientOf(w.service, base, steps)
			w.exchange(f, c)
			return
		}
		mount := f.web("HttpServerMount")
		f.P("%s address = new InetSocketAddress(\"127.0.0.1\", 0);", f.use("java.net.InetSocketAddress"))
		f.In(fmt.Sprintf("try (%s.Running server = %s.start(%s, address)) {", mount, mount, w.mounted(f)), func() {
			f.clientOf(w.service, base, steps)
			w.exchange(f, c)
		}, "}")
	}, "}")
}

// exchange calls, and asserts that there is an answer.
func (w *starter) exchange(f *file, c *schema.Call) {
	sampled := func(variable string, m *schema.Message) string {
		sample, err := value.DecodeJSON(m, []byte(w.options.Samples(m)), 0)
		if err != nil {
			sample = &value.Message{Type: m} // which its author finds out soon
		}
		content := ""
		if raw := m.Raw(); raw != nil {
			low, _ := conversation.RawLength(raw)
			content = fmt.Sprintf("new byte[%d]", max(1, low))
		}
		f.local(sample, variable, content)
		return variable
	}
	argument := ""
	if c.Head != nil {
		argument = sampled("head", c.Head)
	}
	switch {
	case c.RequestStream:
		sampled("element", c.Request)
	case c.Request != nil:
		argument = sampled("request", c.Request)
	}
	call := fmt.Sprintf("client.%s(%s)", CallName(c), argument)
	assertions := "org.junit.jupiter.api.Assertions"
	there := func(text string) { f.P("%s.assertNotNull(%s);", f.use(assertions), text) }
	switch {
	case conversation.BothWays(c):
		f.In(fmt.Sprintf("try (%s<%s, %s> talk = %s) {", f.web("Conversation"), f.side(c.Request), f.side(c.Response),
			call), func() {
			f.P("talk.send(element);")
			f.P("talk.finish();")
			f.P("%s.assertTrue(talk.hasNext());", f.use(assertions))
			f.P("talk.forEachRemaining(%s::assertNotNull);", f.use(assertions))
		}, "}")
	case c.RequestStream:
		f.In(fmt.Sprintf("try (%s<%s, %s> sender = %s) {", f.web("Sender"), f.side(c.Request), f.side(c.Response), call),
			func() {
				f.P("sender.send(element);")
				if c.Response == nil {
					f.P("sender.finish();")
				} else {
					there("sender.finish()")
				}
			}, "}")
	case c.ResponseStream:
		f.In(fmt.Sprintf("try (%s<%s> answers = %s) {", f.web("AnswerStream"), f.side(c.Response), call), func() {
			f.P("%s.assertTrue(answers.hasNext());", f.use(assertions))
			f.P("answers.forEachRemaining(%s::assertNotNull);", f.use(assertions))
		}, "}")
	case c.Response == nil:
		f.P("%s;", call)
	default:
		there(call)
	}
}
