package command

import (
	"flag"
	"path/filepath"
	"strings"

	"faithfulcourier/internal/madefiles"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var manualCommand = &command{
	name:     "manual",
	synopsis: "[--into FOLDER] [--of REF] [--since REF] [--dry]",
	short:    "writes a reference of the definitions, for people to read",
	long: `Writes pages of HTML: what there is to call, each service with its requests, answers
and errors, each module with its data, what each sealed version changed, and an index.
--since latest adds what the draft changes, with verdicts and proofs. Documentation is
Markdown. Each table has two views: names, as callers write them, and wire, as they
travel. Open index.html from disk: the pages load nothing from elsewhere, and can be
read without scripts. Run it again to bring the folder up to date; a page that you
edited is never touched.`,
	examples: [2]string{"faithful manual --since latest", "faithful manual --of 1.0.0 --into manuals/1.0.0"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		ref := referenceFlags(flags)
		since := flags.String("since", "", "also tell what changed since `REF`: latest, 1.0.0, a folder, a file or a "+
			"server's URL")
		into := flags.String("into", "manual", "write the pages into `FOLDER`")
		dry := flags.Bool("dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		return func(w *World, args []string) (int, error) {
			if len(args) > 0 {
				return trouble, usage("manual takes no arguments")
			}
			defs, status, err := ref.load(w)
			if defs == nil {
				return status, err
			}
			about, err := manualAbout(w, *ref.of)
			if err != nil {
				return trouble, err
			}
			about.Copies = copiesOf(w.Context, defs)
			if *since != "" {
				old, findings, err := loadOne(w, *since, ref.access)
				if err != nil {
					return trouble, err
				}
				if source.Errors(findings) > 0 {
					return mistakes(w, "text", findings)
				}
				if err := addSince(w, &about, []string{*since, *ref.of}, []*schema.Definitions{old, defs}); err != nil {
					return trouble, err
				}
			}
			pages, err := manual.Make(defs, about)
			if err != nil {
				return trouble, err
			}
			var wanted []madefiles.File
			for _, f := range pages {
				wanted = append(wanted, madefiles.File{Name: f.Path, Data: f.Content})
			}
			results, err := madefiles.Manual.Update(w.Dir, w.path(*into), wanted, *dry)
			if err != nil {
				return trouble, err
			}
			return w.manualWritten(*into, results, *dry), nil
		}
	},
}

// manualAbout is what a manual of definitions says of their project: its name, and what versions up to them changed.
func manualAbout(w *World, of string) (about manual.About, err error) {
	about = manual.About{Name: "definitions", Version: of}
	p, err := openProject(w.Dir)
	if isNoProject(err) {
		return about, nil // definitions need none to be read
	}
	if err != nil {
		return about, err
	}
	about.Name = p.Config.Name
	ledger, err := p.Ledger()
	if err != nil {
		return about, err
	}
	entry := project.SealedAs(ledger, of)
	if entry != nil {
		about.Version = entry.Version
	} else if of == "draft" {
		entry = ledger.Latest()
	}
	h := &history{p: p, ledger: ledger}
	for e := entry; e != nil; e = ledger.Followed(e) {
		c, err := h.step(e)
		if err != nil {
			return about, err
		}
		notes, err := h.notes(e)
		if err != nil {
			return about, err
		}
		about.Steps = append(about.Steps, manual.Step{Old: c.Old, New: c.New, When: e.Time,
			Note: strings.Join(notes, "\n\n"), Report: c.Report})
	}
	return about, nil
}

// addSince puts what changed between two references before what versions changed.
func addSince(w *World, about *manual.About, refs []string, defs []*schema.Definitions) error {
	c, err := comparison(w, refs, defs)
	if err != nil {
		return err
	}
	if err := acceptWaivers(w, refs, c.Report); err != nil {
		return err
	}
	step := manual.Step{Old: c.Old, New: c.New, Report: c.Report}
	if len(about.Steps) > 0 && about.Steps[0].New == c.New { // the same version, seen from another one
		step.When, step.Note = about.Steps[0].When, about.Steps[0].Note
		about.Steps = about.Steps[1:]
	}
	if len(c.Changes) > 0 {
		step.Needs = c.Needs
	}
	about.Steps = append([]manual.Step{step}, about.Steps...)
	return nil
}

// manualWritten says what became of the files of a manual, and returns the status.
func (w *World) manualWritten(into string, results []madefiles.Result, dry bool) int {
	counts := map[madefiles.State]int{}
	for _, r := range results {
		counts[r.State]++
	}
	changes := counts[madefiles.New] + counts[madefiles.Changed] + counts[madefiles.Gone]
	buffered(w, func(p *report.Printer) {
		for _, r := range results {
			if r.State == madefiles.Yours {
				p.Line("%s %s: it was edited; take it away, and it is written anew", p.In(report.Yellow, "left alone"),
					filepath.ToSlash(filepath.Join(into, filepath.FromSlash(r.Name))))
			}
		}
		p.Line("%s in %s: %d new, %d changed, %d gone, %d unchanged, %d of yours left alone",
			report.Plural(len(results)-counts[madefiles.Gone], "file"), into, counts[madefiles.New],
			counts[madefiles.Changed], counts[madefiles.Gone], counts[madefiles.Same], counts[madefiles.Yours])
		if dry {
			p.Line("Nothing was written.")
			return
		}
		p.Line("Open it with a browser: %s", filepath.ToSlash(filepath.Join(into, "index.html")))
	})
	if dry && changes > 0 {
		return found
	}
	return fine
}
