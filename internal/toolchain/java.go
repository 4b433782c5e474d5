package toolchain

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// JavaLibraries returns the class path of what the tests of Java stubs need from Maven Central; it skips the test where
// there is no Java. Test binaries run side by side, so one waits for the other.
func JavaLibraries(t testing.TB) string {
	t.Helper()
	Require(t, "java")
	dir := filepath.Join(Root(), "conformance", "java")
	project := filepath.Join(dir, "pom.xml")
	file, err := os.Open(project)
	require.NoError(t, err)
	defer file.Close() // which gives up the lock, too
	require.NoError(t, syscall.Flock(int(file.Fd()), syscall.LOCK_EX))
	wanted, err := os.ReadFile(project)
	require.NoError(t, err)
	installed := filepath.Join(dir, "lib", "installed.xml")
	if have, err := os.ReadFile(installed); err != nil || string(have) != string(wanted) {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "lib")))
		Run(t, dir, "mvn", "-B", "-q", "dependency:copy-dependencies", "-DoutputDirectory=lib")
		require.NoError(t, os.WriteFile(installed, wanted, 0o666))
	}
	libraries, err := filepath.Glob(filepath.Join(dir, "lib", "*.jar"))
	require.NoError(t, err)
	require.NotEmpty(t, libraries)
	return strings.Join(libraries, string(filepath.ListSeparator))
}

// CompileJava compiles all Java files below some folders into one, for Java 17, with every warning that is of the code.
func CompileJava(t testing.TB, libraries, into string, folders ...string) {
	t.Helper()
	javac(t, libraries, into, folders)
}

// LintJava is CompileJava with every warning that the compiler and doclint have, each of which fails the test.
func LintJava(t testing.TB, libraries, into string, folders ...string) {
	t.Helper()
	javac(t, libraries, into, folders, "-Xlint:all", "-Xdoclint:all/protected", "-Werror")
}

// ErrorProne compiles with the checks of Error Prone, all warnings of the compiler, and those of doclint for the
// packages of stubs, each of which fails the test.
func ErrorProne(t testing.TB, libraries, into, stubs string, folders ...string) {
	t.Helper()
	options := []string{"-Xplugin:ErrorProne", "-XDcompilePolicy=simple", "--should-stop=ifError=FLOW", "-Xlint:all",
		"-Xlint:-path", "-Xdoclint:all/protected", "-Xdoclint/package:" + stubs, "-Werror", "-processorpath", libraries}
	// What it needs of the compiler is closed since Java 16.
	for _, of := range []string{"api", "code", "comp", "file", "main", "model", "parser", "processing", "tree", "util"} {
		options = append(options, "-J--add-opens=jdk.compiler/com.sun.tools.javac."+of+"=ALL-UNNAMED")
	}
	javac(t, libraries, into, folders, options...)
}

// NewerJava returns the compiler of a JDK after 17; it skips the test where there is none.
func NewerJava(t testing.TB) string {
	t.Helper()
	Require(t, "java")
	found, err := filepath.Glob("/usr/lib/jvm/*/bin/javac")
	require.NoError(t, err)
	for _, javac := range found {
		output, err := exec.Command(javac, "-version").Output()
		require.NoError(t, err)
		var version int
		if _, err := fmt.Sscanf(string(output), "javac %d", &version); err == nil && version > 17 {
			return javac
		}
	}
	t.Skip("skipped: there is no JDK after 17 in /usr/lib/jvm")
	return ""
}

// CompileBenchmarks compiles benchmarks of JMH, which writes programs around them.
func CompileBenchmarks(t testing.TB, libraries, into string, folders ...string) {
	t.Helper()
	javac(t, libraries, into, folders, "-processorpath", libraries, "-processor",
		"org.openjdk.jmh.generators.BenchmarkProcessor")
}

func javac(t testing.TB, libraries, into string, folders []string, options ...string) {
	t.Helper()
	if !slices.Contains(options, "-processor") {
		options = append(options, "-proc:none")
	}
	arguments := append([]string{"-encoding", "UTF-8", "--release", "17", "-Xmaxwarns", "20", "-Xmaxerrs",
		"20",
		"-cp", libraries, "-d", into}, options...)
	list := filepath.Join(t.TempDir(), "files") // of any length
	require.NoError(t, os.WriteFile(list, []byte(strings.Join(JavaFiles(t, folders...), "\n")), 0o666))
	Run(t, ".", "javac", append(arguments, "@"+list)...)
}

// JavaFiles are all Java files below some folders.
func JavaFiles(t testing.TB, folders ...string) (files []string) {
	t.Helper()
	for _, folder := range folders {
		require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && filepath.Ext(path) == ".java" {
				files = append(files, path)
			}
			return err
		}))
	}
	return files
}
