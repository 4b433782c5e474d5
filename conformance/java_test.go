package conformance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

var javaClasses struct {
	sync.Once
	path string
}

// javaPrograms compiles the Java stubs and programs, once, and returns the class path to run them by.
func javaPrograms(t testing.TB) string {
	t.Helper()
	libraries := toolchain.JavaLibraries(t)
	javaClasses.Do(func() {
		classes := filepath.Join(outputs(t), "java")
		toolchain.CompileJava(t, libraries, classes, "java/gen", "java/src")
		javaClasses.path = classes + string(filepath.ListSeparator) + libraries
	})
	require.NotEmpty(t, javaClasses.path, "it did not compile before")
	return javaClasses.path
}

// javaProgram runs a program of the matrix in Java.
func javaProgram(t testing.TB, class string, args ...string) []string {
	return append([]string{"java", "-XX:+UseSerialGC", "-Xmx64m", "-XX:TieredStopAtLevel=1", "-Xshare:auto", "-cp",
		javaPrograms(t), "conformance.matrix." + class}, args...)
}

// javaSides are the servers in Java: of the JDK, and in two containers. They hear of a caller that has left when they
// write, so that the handler of a call with one answer does not.
func javaSides(t *testing.T) (list []side) {
	path := javaPrograms(t)
	for _, server := range []string{"jdk", "jetty", "tomcat"} {
		s := side{language: "java", dir: "java", server: []string{"java", "-Dmatrix.server=" + server, "-XX:+UseSerialGC",
			"-XX:TieredStopAtLevel=1", "-Xmx512m", "-cp", path, "conformance.matrix.Server"},
			lacks: map[string]string{"cancellation": "the handler did not notice"}}
		if server == "jdk" {
			s.client = func(address, encoding string) []string {
				return javaProgram(t, "Client", address, encoding)
			}
			for _, both := range []string{"watching", "both ways", "heads", "late failure"} {
				s.lacks[both] = "the call streams both ways, which this server can't do"
			}
		} else {
			s.language = "java in " + server
		}
		list = append(list, s)
	}
	return list
}

// vectorsFile are all vectors, and a file with one a line.
func vectorsFile(t *testing.T) (list []vector, file string) {
	list = allVectors(t)
	file = filepath.Join(t.TempDir(), "vectors.jsonl")
	out, err := os.Create(file)
	require.NoError(t, err)
	lines := json.NewEncoder(out)
	for _, v := range list {
		require.NoError(t, lines.Encode(v))
	}
	require.NoError(t, out.Close())
	return list, file
}

func TestJavaStubs(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	toolchain.Require(t, "java")
	list, file := vectorsFile(t)
	assert.Equal(t, fmt.Sprintf("%d payloads agree\n", len(list)),
		toolchain.Run(t, "java", "java", "-cp", javaPrograms(t), "conformance.Vectors", file))
}

// TestJackson reads and writes messages by the module for Jackson.
func TestJackson(t *testing.T) {
	toolchain.Require(t, "java")
	const want = `{"by":"the quay","chains":[{"next":{"foot":{"dogs":1}},"passage":[{"tonnes":"12.50"}]}],` +
		`"last":{"tonnes":"12.50"},"fares":{"child":"7.00"},"deck":40}
true
[{"passage":[],"#77":"GCA","crew":[1,2.5E300,null,true]}]
/passage/0/foot/dogs: expected uint8, found "two" (byte 28)
`
	assert.Equal(t, want, toolchain.Run(t, "java", "java", "-cp", javaPrograms(t), "conformance.Jackson"))
}

func FuzzJavaStubs(f *testing.F) {
	toolchain.Require(f, "java")
	fuzz(f, asked(f, exec.Command("java", "-cp", javaPrograms(f), "conformance.Vectors", "-")))
}
