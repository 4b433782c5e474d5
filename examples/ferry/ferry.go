// Package ferry holds the example project of the Skerry Line, as the demo
// lays it out.
package ferry

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed faithful.toml definitions go/server go/client typescript/package.json typescript/tsconfig.json typescript/src/*.ts
var files embed.FS

const (
	ownPath  = "faithfulcourier/examples/ferry" // where the example lies in this repository
	demoPath = "skerry.example/ferry"
)

// Files returns the files of the project by path, with a Go module of its
// own and without the generated code.
func Files() (map[string]string, error) {
	project := map[string]string{
		"go.mod":     "module " + demoPath + "\n\ngo 1.24\n",
		".gitignore": "bin/\nnode_modules/\ntypescript/dist/\n",
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
