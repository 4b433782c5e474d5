package command

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/syntax"
)

var newCommand = &command{
	name:     "new",
	synopsis: "DIR",
	short:    "starts a project",
	long: `Makes a folder with faithful.toml, a small definition that works, and a
.gitignore, and says what to do next. Nothing that is there is overwritten.`,
	examples: [2]string{"faithful new harbour", "faithful new services/pier"},
	prepare: func(*flag.FlagSet) func(*World, []string) (int, error) {
		return func(w *World, args []string) (int, error) {
			if len(args) != 1 {
				return trouble, usage("new needs the folder to make")
			}
			return newProject(w, args[0])
		}
	},
}

func newProject(w *World, dir string) (int, error) {
	target := w.path(dir)
	name := moduleName(filepath.Base(target))
	begins := []struct{ path, text string }{
		{project.ConfigName, fmt.Sprintf(newConfig, name, name)},
		{"definitions/" + name + ".faithful", fmt.Sprintf(newDefinition, name)},
		{".gitignore", newIgnore},
	}
	for _, f := range begins {
		if _, err := os.Lstat(filepath.Join(target, f.path)); !errors.Is(err, fs.ErrNotExist) {
			if err != nil {
				return trouble, err
			}
			return trouble, fmt.Errorf("%s is there already; choose another folder, or remove it first",
				filepath.Join(dir, f.path))
		}
	}
	if err := os.MkdirAll(target, 0o777); err != nil {
		return trouble, err
	}
	folder, err := files.Open(target)
	if err != nil {
		return trouble, err
	}
	defer folder.Close()
	for _, f := range begins {
		// What appeared in the meantime is not overwritten either.
		if err := folder.Create(filepath.FromSlash(f.path), []byte(f.text), 0o666); err != nil {
			return trouble, err
		}
	}
	p := report.New(w.Out, w.Look)
	p.Line("%s %s", p.In(report.Green, "made"), dir)
	for _, f := range begins {
		p.Line("  %s", f.path)
	}
	p.Line("")
	p.Line("Next:")
	p.Table("  ", [][]string{
		{"cd " + shell.Word(dir), ""},
		{"faithful check", "what is wrong with the definitions, if anything"},
		{"faithful generate", "writes the stubs that faithful.toml names"},
		{"faithful seal", "records the definitions as a version"},
		{"faithful compare", "what your next change breaks"},
	})
	return fine, nil
}

// moduleName makes a module name of a folder's name.
func moduleName(folder string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, folder)
	name = strings.TrimLeft(syntax.SnakeCase(strings.Trim(name, "_")), "0123456789_")
	if name == "" {
		return "project"
	}
	return name
}

const newConfig = `name    = "%s"
sources = ["definitions"]

# One [[stubs]] for each language and folder.
[[stubs]]
language = "go"
into     = "gen/go"
package  = "%s/gen/go"   # its import path: the module of your go.mod, and the folder

[[stubs]]
language = "typescript"
into     = "gen/typescript"

# What you promise to those who use your definitions.
[promise]
rollout = "server-leads"   # servers are updated before clients
`

const newDefinition = `/// What this module is for.
module %s

message GreetRequest {
  #1 name text where length 1..200
}

example usual of GreetRequest { name: "Ada" }

message Greeting {
  #1 text    text
  #2 sent_at instant
}

/// There is nobody of that name.
error NobodyThere 404 {
  #1 name text
}

/// Greets people.
service Greetings {
  /// Greets somebody.
  call greet(GreetRequest) -> Greeting
    safe
    fails NobodyThere
}
`

const newIgnore = `node_modules/
*.faithful-new
.faithful-writing
`
