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
	synopsis: "LANGUAGE SERVICE [--into DIR] [--dry]",
	short:    "writes starting points of a server, that belong to you",
	long: `Writes a main program, a handler for each call with a sample answer, and a
test that starts the server and calls it. The files are yours: no later run
touches them, it only adds what is missing. The output folder of the stubs is
the one that faithful.toml names.`,
	examples: [2]string{"faithful scaffold go Quay --into server", "faithful scaffold python skerry.booking.Bookings"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		into := flags.String("into", "server", "write into this `DIR`")
		dry := flags.Bool("dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		return func(w *World, args []string) (int, error) {
			if len(args) != 2 {
				return trouble, usage("scaffold needs a language and a service")
			}
			return scaffold(w, args[0], args[1], *into, *dry)
		}
	},
}

func scaffold(w *World, languageName, serviceName, into string, dry bool) (int, error) {
	language, err := languageNamed(languageName)
	if err != nil {
		return trouble, err
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
		return trouble, fmt.Errorf("faithful.toml has no %s output with the role server, on which the server would stand",
			languageName)
	}
	output := p.Config.Stubs[i]
	options, err := stubOptions(p, output)
	if err != nil {
		return trouble, err
	}
	dir := w.path(into)
	relative, err := filepath.Rel(dir, filepath.Join(p.Dir, output.Into))
	if err != nil {
		return trouble, err
	}
	options.Into = filepath.ToSlash(relative)
	options.Samples = stubs.SamplesOf(defs)
	status, err := fine, error(nil)
	buffered(w, func(printer *report.Printer) {
		status, err = writeMissing(printer, w.Dir, dir, into, language.Scaffold(service, options), dry)
		if err != nil || dry {
			return
		}
		printer.Line("")
		printer.Line("%s", printer.In(report.Bold, "Next"))
		for _, line := range language.Next(shell.Word(filepath.ToSlash(filepath.Clean(into))), options) {
			printer.Line("  %s", line)
		}
	})
	return status, err
}

// writeMissing writes files that are not there, and touches none that is.
func writeMissing(p *report.Printer, base, dir, shown string, list []stubs.File, dry bool) (status int, err error) {
	var folder *files.Folder
	if !dry {
		if folder, err = files.Make(base, dir); err != nil {
			return trouble, err
		}
		defer func() { err = errors.Join(err, folder.Close()) }()
	}
	written, kept := 0, 0
	for _, f := range list {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		switch _, err := os.Lstat(path); {
		case err == nil:
			kept++
			continue
		case !errors.Is(err, fs.ErrNotExist):
			return trouble, err
		}
		written++
		verb := "wrote"
		if dry {
			verb = "would write"
		} else {
			if err := folder.Create(filepath.FromSlash(f.Path), f.Content, 0o666); err != nil {
				return trouble, err
			}
		}
		p.Line("  %s %s", verb, filepath.ToSlash(filepath.Join(shown, f.Path)))
	}
	if dry {
		p.Line("%s to write, %d there already", report.Plural(written, "file"), kept)
		if written > 0 {
			return found, nil
		}
		return fine, nil
	}
	p.Line("%s written, %d there already and left alone", report.Plural(written, "file"), kept)
	return fine, nil
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
		message += "; there is " + strings.Join(names, ", ")
	}
	return nil, fmt.Errorf("%s", message)
}
