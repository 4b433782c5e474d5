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
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
)

var scaffoldCommand = &command{
	name:     "scaffold",
	synopsis: "LANGUAGE SERVICE [--into DIR] [--framework NAME] [--dry]",
	short:    "writes a server for you to start from",
	long: `Writes a main program and, for the service, a folder: what its calls depend on,
a handler for each call with a sample answer, and a test for each call that
starts the server and calls it. In Java it is a Maven project, whose tests fail
until you write the calls. The files are yours. A later run only adds
files that are missing, and says what to add to your own. The stubs are those
of faithful.toml; without the role client there, tests are left out.`,
	examples: [2]string{"faithful scaffold go Quay --into server", "faithful scaffold python skerry.booking.Bookings"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		into := flags.String("into", "server", "write into this `DIR`")
		framework := flags.String("framework", "", "write it for the framework `NAME`, "+frameworks())
		dry := flags.Bool("dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		return func(w *World, args []string) (int, error) {
			if len(args) != 2 {
				return trouble, usage("scaffold needs a language and a service")
			}
			return scaffold(w, args[0], args[1], *into, *framework, *dry)
		}
	},
}

func scaffold(w *World, languageName, serviceName, into, framework string, dry bool) (int, error) {
	language, err := languageNamed(languageName)
	if err != nil {
		return trouble, err
	}
	if framework != "" && !slices.Contains(language.Frameworks(), framework) {
		return trouble, fmt.Errorf("%s has no framework %q to write for; there is %s", language.Title(), framework,
			frameworks())
	}
	p, defs, err := draft(w, "text")
	if err != nil {
		return trouble, err
	}
	service, err := serviceNamed(defs, serviceName)
	if err != nil {
		return trouble, err
	}
	i := slices.IndexFunc(p.Config.Stubs, func(o project.Output) bool {
		return o.Language == languageName &&
			o.Has("server")
	})
	if i < 0 {
		return trouble, fmt.Errorf("faithful.toml has no %s output with the role server, which the server needs",
			languageName)
	}
	output := p.Config.Stubs[i]
	options, err := stubOptions(p, output)
	if err != nil {
		return trouble, err
	}
	dir, stubsDir := w.path(into), filepath.Join(p.Dir, output.Into)
	if options.Into, err = slashRelative(dir, stubsDir); err != nil {
		return trouble, err
	}
	if options.From, err = slashRelative(stubsDir, dir); err != nil {
		return trouble, err
	}
	options.Framework = framework
	if err := language.Fits(stubsDir, options); err != nil {
		return trouble, err
	}
	options.Folder = stubs.ServiceFolder(defs, service)
	options.Samples = stubs.SamplesOf(defs)
	status, err := fine, error(nil)
	buffered(w, func(printer *report.Printer) {
		list := language.Scaffold(service, options)
		var old map[string]bool
		if old, err = writeMissing(printer, w.Dir, dir, into, list, dry); err != nil {
			status = trouble
			return
		}
		if !options.Client {
			printer.Line("no tests: the %s output does not have the role client, which they call with", languageName)
		}
		if dry {
			if len(old) < len(list) {
				status = found
			}
			return
		}
		joins(printer, into, list, old)
		printer.Line("")
		printer.Line("%s", printer.In(report.Bold, "Next"))
		for _, line := range language.Next(shell.Word(filepath.ToSlash(filepath.Clean(into))), options) {
			printer.Line("  %s", line)
		}
	})
	return status, err
}

// frameworks are those of all languages, in words.
func frameworks() string {
	var list []string
	for _, l := range languages {
		for _, name := range l.Frameworks() {
			list = append(list, name+" for "+l.Title())
		}
	}
	return strings.Join(list, ", ")
}

// slashRelative is a folder as seen from another, with slashes.
func slashRelative(from, to string) (string, error) {
	relative, err := filepath.Rel(from, to)
	return filepath.ToSlash(relative), err
}

// writeMissing writes files that are not there, and touches none that is; old are those.
func writeMissing(p *report.Printer, base, dir, shown string, list []stubs.Start, dry bool) (old map[string]bool,
	err error) {
	var folder *files.Folder
	if !dry {
		if folder, err = files.Make(base, dir); err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, folder.Close()) }()
	}
	old = map[string]bool{}
	for _, f := range list {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		switch _, err := os.Lstat(path); {
		case err == nil:
			old[f.Path] = true
			continue
		case !errors.Is(err, fs.ErrNotExist):
			return nil, err
		}
		verb := "wrote"
		if dry {
			verb = "would write"
		} else if err := folder.Create(filepath.FromSlash(f.Path), f.Content, 0o666); err != nil {
			return nil, err
		}
		p.Line("  %s %s", verb, filepath.ToSlash(filepath.Join(shown, f.Path)))
	}
	for _, f := range list {
		if old[f.Path] {
			p.Line("  left alone %s", filepath.ToSlash(filepath.Join(shown, f.Path)))
		}
	}
	written := report.Plural(len(list)-len(old), "file")
	if dry {
		p.Line("%s to write, %d there already", written, len(old))
	} else {
		p.Line("%s written, %d there already and left alone", written, len(old))
	}
	return old, nil
}

// joins says what files that were there need of those that are new.
func joins(p *report.Printer, shown string, list []stubs.Start, old map[string]bool) {
	lines := map[string][]string{}
	var paths []string
	for _, f := range list {
		for _, join := range f.Joins {
			if old[f.Path] || !old[join.Path] {
				continue
			}
			if lines[join.Path] == nil {
				paths = append(paths, join.Path)
			}
			lines[join.Path] = append(lines[join.Path], join.Lines...)
		}
	}
	for _, path := range paths {
		p.Line("")
		p.Line("%s", p.In(report.Bold, "Add to "+filepath.ToSlash(filepath.Join(shown, path))))
		for _, line := range lines[path] {
			p.Line("  %s", line)
		}
	}
}

// serviceNamed finds a service by its name, with or without its module.
func serviceNamed(defs *schema.Definitions, name string) (*schema.Service, error) {
	var fits []*schema.Service
	var names []string
	for _, m := range defs.Modules {
		for _, s := range m.Services {
			names = append(names, s.Name, s.FullName())
			if s.Name == name || s.FullName() == name {
				fits = append(fits, s)
			}
		}
	}
	switch {
	case len(fits) == 1:
		return fits[0], nil
	case len(fits) > 1:
		return nil, fmt.Errorf("%q could be %q or %q; say which", name, fits[0].FullName(), fits[1].FullName())
	case len(names) == 0:
		return nil, fmt.Errorf("the definitions have no service")
	}
	message := fmt.Sprintf("there is no service %q", name)
	if near := source.Nearest(name, names); near != "" {
		message += fmt.Sprintf("; did you mean %q?", near)
	} else {
		message += "; the services are: " + strings.Join(names, ", ")
	}
	return nil, fmt.Errorf("%s", message)
}
