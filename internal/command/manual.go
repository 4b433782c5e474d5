package command

import (
	"flag"
	"path/filepath"

	"faithfulcourier/internal/madefiles"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
)

var manualCommand = &command{
	name:     "manual",
	synopsis: "[--into FOLDER] [--of REF] [--dry]",
	short:    "writes a reference of the definitions, for people to read",
	long: `Writes pages of HTML: what there is to call, each service with its requests, answers
and errors, each module with its data, and an index. Documentation is Markdown. Each
table has two views: names, as callers write them, and wire, as they travel. Open
index.html from disk: the pages load nothing from elsewhere, and can be read without
scripts. Run it again to bring the folder up to date; a page that you edited is never
touched.`,
	examples: [2]string{"faithful manual", "faithful manual --of 1.0.0 --into manuals/1.0.0"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		ref := referenceFlags(flags)
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
			about := manual.About{Name: "definitions", Version: *ref.of}
			if p, err := openProject(w.Dir); err == nil {
				about.Name = p.Config.Name
				if version, err := project.VersionOf(p.Dir, *ref.of); err == nil {
					about.Version = version
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
