package command

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/syntax"
)

var newCommand = &command{
	name:     "new",
	synopsis: "DIR [--language LANGUAGE]…",
	short:    "starts a project",
	long: `Makes a folder with faithful.toml, a small definition that works, .gitignore and
.gitattributes, and says what to do next. Nothing that is there is overwritten.
--language, which may be given several times, chooses the languages of the stubs;
without it they are Go and TypeScript.`,
	examples: [2]string{"faithful new harbour", "faithful new services/pier --language python"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		languages := severalOf(flags, "language", "write stubs in this `LANGUAGE`")
		return func(w *World, args []string) (int, error) {
			if len(args) != 1 {
				return trouble, usage("new needs the folder to make")
			}
			if len(*languages) == 0 {
				*languages = usualLanguages
			}
			return newProject(w, args[0], *languages)
		}
	},
}

func newProject(w *World, dir string, languages []string) (int, error) {
	target := w.path(dir)
	name := moduleName(filepath.Base(target))
	var outputs strings.Builder
	for i, language := range languages {
		known, err := languageNamed(language)
		if err != nil {
			return trouble, err
		}
		if slices.Contains(languages[:i], language) {
			return trouble, usage("--language %s is given twice", language)
		}
		fmt.Fprintf(&outputs, newOutput, language, language)
		for _, line := range known.Begin(name) {
			outputs.WriteString(line + "\n")
		}
		outputs.WriteString("\n")
	}
	begins := []struct{ path, text string }{
		{project.ConfigName, fmt.Sprintf(newConfig, name, &outputs)},
		{"definitions/" + name + ".faithful", fmt.Sprintf(newDefinition, name)},
		{".gitignore", newIgnore},
		{".gitattributes", newAttributes},
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
		{"faithful seal", "records the definitions as an immutable version"},
		{"faithful compare", "whether your next change is breaking"},
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
%s# What you promise to those who use your definitions.
[promise]
rollout = "server-leads"   # servers are updated before clients
`

const newOutput = `[[stubs]]
language = "%s"
into     = "gen/%s"
`

// newAttributes keeps the line ends of what is hashed, signed and compared.
const newAttributes = `*.faithful text eol=lf
gen/** text eol=lf
versions/** text eol=lf
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
target/
*.faithful-new
.faithful-writing
`
