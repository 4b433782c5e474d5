package command

import (
	"flag"
	"io"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

var tidyCommand = &command{
	name:     "tidy",
	synopsis: "[FILE…] [-w, --write] [--dry]",
	short:    "formats definitions",
	long: `Formats files: prints them in the canonical layout or, with --write, writes them.
Without FILE it takes all files of the project; the FILE - is standard input.
Comments stay where they belong, and the meaning never changes. A file with errors
is not touched.`,
	examples: [2]string{"faithful tidy -w", "faithful tidy definitions/booking.faithful"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		write := flags.Bool("write", false, "write the files instead of printing them")
		letter(flags, "w", "write")
		dry := flags.Bool("dry", false, "only name the files that would change; exit 1 if there are any")
		return func(w *World, args []string) (int, error) {
			if *write && *dry {
				return trouble, usage("--write writes and --dry does not: choose one")
			}
			return tidyFiles(w, args, *write, *dry)
		}
	},
}

func tidyFiles(w *World, args []string, write, dry bool) (int, error) {
	input, err := tidyInput(w, args)
	if err != nil {
		return trouble, err
	}
	var changes []changedFile
	var findings []source.Finding
	for _, f := range input {
		text, wrong := syntax.Tidy(f)
		findings = append(findings, wrong...)
		if len(wrong) == 0 && (!write && !dry || text != f.Text) {
			changes = append(changes, changedFile{f, text})
		}
	}
	if len(findings) > 0 {
		return mistakes(w, "text", findings)
	}
	if write {
		if err := w.rewrite("tidy", changes); err != nil {
			return trouble, err
		}
	}
	p := report.New(w.Out, w.Look)
	for _, c := range changes {
		switch {
		case dry:
			p.Line("would tidy %s", c.file.Name)
		case write:
			p.Line("tidied %s", c.file.Name)
		default:
			io.WriteString(w.Out, c.text) // a broken pipe has no one to tell
		}
	}
	if len(changes) == 0 {
		p.Line("%s: nothing to tidy", report.Plural(len(input), "file"))
	}
	if dry && len(changes) > 0 {
		return found, nil
	}
	return fine, nil
}

// tidyInput reads the files that are named, standard input for "-", or all of
// the project.
func tidyInput(w *World, args []string) ([]*source.File, error) {
	if len(args) == 0 {
		p, err := openProject(w.Dir)
		if err != nil {
			return nil, err
		}
		all, err := p.Files()
		return project.Own(all), err
	}
	var input []*source.File
	for _, arg := range args {
		if arg == "-" {
			text, err := io.ReadAll(io.LimitReader(w.In, source.MaxFileSize+1))
			if err != nil {
				return nil, err
			}
			input = append(input, source.NewFile("standard input", string(text)))
			continue
		}
		f, err := project.ReadFile(w.Dir, arg)
		if err != nil {
			return nil, err
		}
		input = append(input, f)
	}
	return input, nil
}
