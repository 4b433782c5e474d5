// Package ferry holds the example project of the Skerry Line, as the demo
// lays it out.
package ferry

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed faithful.toml answers.toml definitions go/server go/client go/ways python/*.py python/pyproject.toml python/requirements.txt java/pom.xml java/src/main/java/ferry/*.java typescript/package.json typescript/tsconfig.json typescript/src/*.ts
var files embed.FS

const (
	ownPath  = "faithfulcourier/examples/ferry" // where the example lies in this repository
	demoPath = "skerry.example/ferry"
)

//go:embed modules/websocket-v1.8.15.zip
var webSocketZip []byte

// The one library that the Go stubs of calls that stream both ways want, as
// this repository itself has it.
const (
	webSocket     = "github.com/coder/websocket v1.8.15"
	webSocketSums = "github.com/coder/websocket v1.8.15 h1:6B2JPeOGlpff2Uz6vOEH1Vzpi0iUz20A+lPVhPHtNUA=\n" +
		"github.com/coder/websocket v1.8.15/go.mod h1:NX3SzP+inril6yawo5CQXx8+fk145lPDC6pumgx0mVg=\n"
)

// Files returns the files of the project by path, with a Go module of its
// own and without the generated code.
func Files() (map[string]string, error) {
	project := map[string]string{
		"go.mod":     "module " + demoPath + "\n\ngo 1.24\n\nrequire " + webSocket + "\n",
		"go.sum":     webSocketSums,
		".gitignore": "bin/\nnode_modules/\ntypescript/dist/\njava/target/\n.venv/\n__pycache__/\n",
	}
	err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := files.ReadFile(path)
		project[path] = strings.ReplaceAll(string(text), ownPath, demoPath)
		return err
	})
	return project, err
}

// Modules returns the files of a Go module proxy (the protocol of "go help
// goproxy") that has the one library that the project wants, so that it builds
// without the network.
func Modules() map[string]string {
	path, version, _ := strings.Cut(webSocket, " ")
	at := path + "/@v/"
	return map[string]string{
		at + "list":            version + "\n",
		at + version + ".info": `{"Version":"` + version + `"}`,
		at + version + ".mod":  "module " + path + "\n\ngo 1.23\n",
		at + version + ".zip":  string(webSocketZip),
	}
}
