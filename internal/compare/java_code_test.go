package compare

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/java"
	"faithfulcourier/internal/toolchain"
)

// javaJudge compiles each folder on its own, in one process, and prints a line for each error: its folder, its file and
// what the compiler says. What supports the stubs is the same in all, and compiled once.
const javaJudge = `
import java.nio.file.*;
import java.util.*;
import java.util.stream.*;
import javax.tools.*;

public class Judge {
  static final JavaCompiler COMPILER = ToolProvider.getSystemJavaCompiler();

  public static void main(String[] folders) throws Exception {
    Path support = Files.createTempDirectory(Path.of(""), "support");
    List<String> options = new ArrayList<>(List.of("-proc:none", "-encoding", "UTF-8", "--release", "17", "-Xmaxerrs",
        "100000", "-Xlint:none", "-XDshould-stop.ifError=FLOW", "-d", support.toString()));
    compile(folders[0], options, true, true);
    options.addAll(List.of("-cp", support.toString()));
    for (String folder : folders) {
      compile(folder, options, false, false);
    }
  }

  static void compile(String folder, List<String> options, boolean support, boolean whole) throws Exception {
    List<Path> files;
    try (var walk = Files.walk(Path.of(folder))) {
      files = walk.filter(p -> p.toString().endsWith(".java"))
          .filter(p -> support == p.toString().replace('\\', '/').matches(".*/faithful/(wire|web)/.*"))
          .collect(Collectors.toList());
    }
    DiagnosticCollector<JavaFileObject> found = new DiagnosticCollector<>();
    StandardJavaFileManager manager = COMPILER.getStandardFileManager(found, null, null);
    var task = (com.sun.source.util.JavacTask)
        COMPILER.getTask(null, manager, found, options, null, manager.getJavaFileObjectsFromPaths(files));
    if (whole) {
      task.generate();
    } else {
      task.analyze();
    }
    for (var d : found.getDiagnostics()) {
      if (d.getKind() == Diagnostic.Kind.ERROR) {
        System.out.println(folder + "\t" + (d.getSource() == null ? "" : d.getSource().getName()) + "\t"
            + d.getMessage(Locale.ROOT).replace("\n", " "));
      }
    }
  }
}
`

// javaFails compiles folders, and returns what the compiler says, by file.
func javaFails(t *testing.T, dir string, folders []string) map[string]string {
	write(t, filepath.Join(dir, "Judge.java"), javaJudge)
	output := toolchain.Run(t, dir, "java", append([]string{"--add-modules", "jdk.compiler", "Judge.java"}, folders...)...)
	failed := map[string]string{}
	for line := range strings.Lines(output) {
		if parts := strings.SplitN(strings.TrimSpace(line), "\t", 3); len(parts) == 3 {
			failed[parts[1]] += parts[2] + "\n"
		}
	}
	return failed
}

// javaFile is a class with a method, or with classes in it.
func javaFile(root, module, class, body string) string {
	imports := ""
	if module != "" {
		imports = fmt.Sprintf("import %s.%s.*;\n", root, module)
	}
	if strings.HasPrefix(body, "class ") {
		body = strings.Replace(body, "class ", "static abstract class ", 1)
	} else {
		body = "void use() throws Exception {\n" + body + "\n}"
	}
	return fmt.Sprintf("package use;\n\nimport %s.faithful.web.*;\nimport %s.faithful.wire.*;\nimport java.math.*;\n"+
		"import java.time.*;\nimport java.util.*;\nimport java.util.concurrent.*;\n%s\nclass %s {\n%s\n}\n", root, root, imports,
		class, body)
}

// TestJavaCode is TestGoCode for Java.
func TestJavaCode(t *testing.T) {
	toolchain.Require(t, "java")
	dir := t.TempDir()
	old := definitions(t, harbour)
	options := stubs.Everything("gen")
	folders := []string{"old"}
	writeStubs(t, filepath.Join(dir, "old", "gen"), java.Language{}, old, options)
	for _, who := range concerned {
		write(t, filepath.Join(dir, "old", "use", "Use_"+who+".java"), javaProgram(old, "gen", "skerry.harbour", who))
	}
	verdicts, proofs := map[string]map[string]bool{}, map[string]bool{}
	about := map[string]string{}
	for i, c := range codeChanges {
		name := fmt.Sprintf("c%02d", i)
		new := definitions(t, changed(c))
		writeStubs(t, filepath.Join(dir, name, "gen"), java.Language{}, new, options)
		for _, who := range concerned {
			write(t, filepath.Join(dir, name, "use", "Use_"+who+".java"), javaProgram(old, "gen", "skerry.harbour", who))
		}
		folders = append(folders, name)
		breaks, lines := breaksIn("java", Compare(old, new,
			Promise{Rollout: "server-leads", Stored: "each-reads-other", Languages: []stubs.Language{java.Language{}}}))
		verdicts[name], about[name] = breaks, fmt.Sprintf("%q → %q", c.old, c.new)
		for j, l := range lines {
			for _, at := range []string{"old", name} {
				class := fmt.Sprintf("Proof%d_%d", i, j)
				file := filepath.Join(at, "use", class+".java")
				text := javaFile("gen", "skerry.harbour", class, strings.Join(l, "\n"))
				if imported, is := strings.CutPrefix(l[0], "import …"); is {
					text = strings.Replace(javaFile("gen", "", class, ""), "\nclass", "import gen"+imported+"\n\nclass", 1)
				}
				write(t, filepath.Join(dir, file), text)
				proofs[file] = at != "old"
				about[file] = strings.Join(l, "\n")
			}
		}
	}
	failed := javaFails(t, dir, folders)
	for file, says := range failed {
		require.Contains(t, file, "/use/", "the stubs themselves must compile: %s", says)
		require.NotContains(t, file, "old/use/Use_", says)
	}
	for name, breaks := range verdicts {
		judgedRightly(t, about[name], breaks, func(who string) (bool, string) {
			says, fails := failed[filepath.Join(name, "use", "Use_"+who+".java")]
			return fails, says
		})
	}
	for file, want := range proofs {
		_, fails := failed[file]
		assert.Equal(t, want, fails, "%s\nthe table says that %s breaks: %t; the compiler: %s", about[file], file, want,
			failed[file])
	}
}

// javaProgram is goProgram for Java.
func javaProgram(defs *schema.Definitions, root, module, who string) string {
	var b strings.Builder
	n := 0
	method := func(format string, args ...any) {
		n++
		fmt.Fprintf(&b, "void use%d() throws Exception {\n%s\n}\n", n, fmt.Sprintf(format, args...))
	}
	for _, m := range defs.Modules {
		if who != "users" {
			javaServices(&b, m, who, method)
			continue
		}
		for _, c := range m.Consts {
			method("%s value = Constants.%s;", java.TypeName(c.Type), java.ConstName(c))
		}
		for _, e := range m.Enums {
			for _, x := range e.Members {
				method("%s value = %s.%s;\nswitch (value.known()) {\ncase %s:\nbreak;\ndefault:\nbreak;\n}", e.Name, e.Name,
					java.MemberName(x), java.MemberName(x))
			}
		}
		for _, x := range m.Types {
			if base := java.TypeName(x.Bare()); java.TypeName(&x.Type) != base {
				method("%s made = null;\n%s value = made.value();\nmade = new %s(value);", x.Name, base, x.Name)
			}
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				name := u.Name + "." + java.AlternativeName(a)
				method("%s way = null;\nif (way instanceof %s one) {\n%s value = one.value();\nway = new %s(value);\n}", u.Name,
					name,
					java.TypeName(a.Type), name)
			}
		}
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				given := "value"
				if f.Presence == schema.Optional {
					given = "value.orElse(null)"
				}
				method("%s m = null;\n%s value = m.%s();\nm = m.toBuilder().%s(%s).build();", msg.Name, java.FieldTypeName(f),
					java.FieldName(f), java.FieldName(f), given)
			}
			if msg.Raw() == nil {
				method("%s m = null;\nString text = m.toJson();\nm = %s.fromJson(text);", msg.Name, msg.Name)
			} else {
				method("%s m = null;\nm.validate();", msg.Name)
			}
			if msg.IsError() {
				method("throw %s.builder().build();", msg.Name)
			}
		}
	}
	return strings.Replace(javaFile(root, module, "Use_"+who, ""), "void use() throws Exception {\n\n}", b.String(), 1)
}

// javaServices calls or implements all calls of a module.
func javaServices(b *strings.Builder, m *schema.Module, who string, method func(format string, args ...any)) {
	for _, s := range m.Services {
		if who == "callers" {
			for _, c := range s.Calls {
				argument, sent, answer := "", "", "Void"
				if p := c.Placed(); p != nil {
					sent, argument = fmt.Sprintf("%s sent = null;\n", p.Name), "sent"
				}
				if c.Response != nil {
					answer = c.Response.Name
				}
				call := fmt.Sprintf("client.%s(%s)", java.CallName(c), argument)
				switch {
				case c.RequestStream:
					call = fmt.Sprintf("Sender<%s, %s> sender = %s;", c.Request.Name, answer, call)
				case c.ResponseStream:
					call = fmt.Sprintf("AnswerStream<%s> stream = %s;", answer, call)
				case c.Response == nil:
					call = fmt.Sprintf("CompletableFuture<Void> done = client.%sAsync(%s);", java.CallName(c), argument)
				default:
					call = fmt.Sprintf("%s answer = %s;", answer, call)
				}
				method("%sClient client = null;\n%s%s", s.Name, sent, call)
			}
			continue
		}
		fmt.Fprintf(b, "static class Desk%s extends %s {\n", s.Name, s.Name)
		for _, c := range s.Calls {
			var parameters []string
			if c.Head != nil {
				parameters = append(parameters, c.Head.Name+" head")
			}
			if c.RequestStream {
				parameters = append(parameters, fmt.Sprintf("Elements<%s> elements", c.Request.Name))
			} else if c.Request != nil {
				parameters = append(parameters, c.Request.Name+" request")
			}
			result, body := "void", ""
			if c.ResponseStream {
				parameters = append(parameters, fmt.Sprintf("Answers<%s> answers", c.Response.Name))
			} else if c.Response != nil {
				result, body = c.Response.Name, "return null;"
			}
			fmt.Fprintf(b, "@Override public %s %s(%s) {%s}\n", result, java.CallName(c),
				strings.Join(append(parameters, "Context context"), ", "), body)
		}
		b.WriteString("}\n")
	}
}
