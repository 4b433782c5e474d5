package command

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/madefiles"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

// manualWriter is the command manual with its options.
type manualWriter struct {
	w       *World
	ref     *referenceOptions
	since   string
	into    string
	to      string
	as      string
	single  string
	dry     bool
	serving serving
}

var manualCommand = &command{
	name:     "manual",
	synopsis: "[--into FOLDER | --single FILE | --serve [ADDRESS]] [--of REF] [--since REF] [options]",
	short:    "writes or serves a reference of the definitions, to read and to try",
	long: `Writes pages of HTML: what there is to call, each service with its requests, answers
and errors, each module with its data, what each sealed version changed, and an index.
--since latest adds what the draft changes, with verdicts and proofs. Documentation is
Markdown. Each table has two views: names, as callers write them, and wire, as they
travel. Open index.html from disk: the pages load nothing from elsewhere, and can be
read without scripts. Run it again to bring the folder up to date; a page that you
edited is never touched. --single writes one file, --as markdown text for a repository.
--serve shows every save in open pages, and sends the calls that are filled in there
to a mock, or to the server of --to. Ctrl-C ends it.`,
	examples: [2]string{"faithful manual --since latest", "faithful manual --serve --to http://127.0.0.1:8080"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		m := &manualWriter{}
		m.ref = referenceFlags(flags)
		flags.StringVar(&m.since, "since", "", "also tell what changed since `REF`: latest, 1.0.0, a folder, a file or a "+
			"server's URL")
		flags.StringVar(&m.into, "into", "manual", "write the pages into `FOLDER`")
		flags.StringVar(&m.as, "as", "html", "`KIND`: html, or markdown")
		flags.StringVar(&m.single, "single", "", "write one `FILE` of HTML instead")
		flags.StringVar(&m.to, "to", "", "calls go to the server at `URL`: http://127.0.0.1:8080")
		flags.BoolVar(&m.dry, "dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		m.serving.flags(flags)
		return func(w *World, args []string) (int, error) {
			m.w = w
			return m.run(args)
		}
	},
}

func (m *manualWriter) run(args []string) (int, error) {
	if m.serving.on && m.serving.address == "" && len(args) == 1 {
		m.serving.address, args = args[0], nil
	}
	switch {
	case len(args) > 0:
		return trouble, usage("manual takes no arguments but the address of --serve")
	case m.as != "html" && m.as != "markdown":
		return trouble, usage("--as is html or markdown, not %q", m.as)
	case m.as == "markdown" && (m.single != "" || m.serving.on):
		return trouble, usage("--as markdown writes a folder: leave out --single and --serve")
	case m.single != "" && m.serving.on:
		return trouble, usage("--single writes a file, --serve none: leave out one")
	case m.serving.anyone && !m.serving.on:
		return trouble, usage("--anyone goes with --serve")
	}
	if m.to != "" && !project.IsURL(m.to) {
		return trouble, usage("--to is the URL of a server, such as http://127.0.0.1:8080, and %q is not", m.to)
	}
	m.to = strings.TrimRight(m.to, "/")
	if m.serving.on {
		return m.serve()
	}
	if m.to == "" {
		m.to = exampleServer
	}
	defs, about, status, err := m.load()
	if defs == nil {
		return status, err
	}
	if m.single != "" {
		return m.writeSingle(defs, about)
	}
	make := manual.Make
	if m.as == "markdown" {
		make = manual.Markdown
	}
	pages, err := make(defs, about)
	if err != nil {
		return trouble, err
	}
	var wanted []madefiles.File
	for _, f := range pages {
		wanted = append(wanted, madefiles.File{Name: f.Path, Data: f.Content})
	}
	results, err := madefiles.Manual.Update(m.w.Dir, m.w.path(m.into), wanted, m.dry)
	if err != nil {
		return trouble, err
	}
	return m.written(results), nil
}

// load loads the definitions, and what a manual says of their project. Where it returns none, what is wrong has been
// printed, or is the error.
func (m *manualWriter) load() (*schema.Definitions, manual.About, int, error) {
	var about manual.About
	defs, status, err := m.ref.load(m.w)
	if defs == nil {
		return nil, about, status, err
	}
	if about, err = manualAbout(m.w, *m.ref.of, defs); err != nil {
		return nil, about, trouble, err
	}
	about.To, about.Calling = m.to, callingOf(context.WithoutCancel(m.w.Context), defs, m.to)
	if *m.ref.of == "draft" { // what the stubs of the project are of
		if about.Calling, err = callingFor(m.w.Dir, about.Calling, m.to); err != nil {
			return nil, about, trouble, err
		}
	}
	if m.since == "" {
		return defs, about, fine, nil
	}
	old, findings, err := loadOne(m.w, m.since, m.ref.access)
	if err != nil {
		return nil, about, trouble, err
	}
	if source.Errors(findings) > 0 {
		status, err := mistakes(m.w, "text", findings)
		return nil, about, status, err
	}
	before := about.Steps
	about.Steps = func() ([]manual.Step, error) {
		var steps []manual.Step
		if before != nil {
			if steps, err = before(); err != nil {
				return nil, err
			}
		}
		return withSince(m.w, steps, []string{m.since, *m.ref.of}, []*schema.Definitions{old, defs})
	}
	return defs, about, fine, nil
}

// callingFor adds programs with the clients of the project of a folder, where there is one.
func callingFor(dir string, calling manual.Calling, to string) (manual.Calling, error) {
	p, err := openProject(dir)
	if isNoProject(err) {
		return calling, nil
	}
	if err != nil {
		return calling, err
	}
	return withCode(calling, p, to)
}

// mostCompared is of how many versions a manual compares any two.
const mostCompared = 10

// manualAbout is what a manual of definitions says of their project: its name, and what versions up to them changed.
func manualAbout(w *World, of string, defs *schema.Definitions) (about manual.About, err error) {
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
		if entry != nil {
			about.Versions = []string{"draft"}
		}
	}
	for e := entry; e != nil && len(about.Versions) < mostCompared; e = ledger.Followed(e) {
		about.Versions = append(about.Versions, e.Version)
	}
	about.Steps = func() ([]manual.Step, error) { return stepsTo(&history{p: p, ledger: ledger}, entry) }
	loaded := map[string]*schema.Definitions{"draft": defs}
	var one sync.Mutex // pages may be asked for at the same time
	about.Between = func(old, new string) (manual.Step, error) {
		one.Lock()
		defer one.Unlock()
		var both []*schema.Definitions
		for _, ref := range []string{old, new} {
			if loaded[ref] == nil {
				one, err := (&history{p: p, ledger: ledger}).load(project.SealedAs(ledger, ref))
				if err != nil {
					return manual.Step{}, err
				}
				loaded[ref] = one
			}
			both = append(both, loaded[ref])
		}
		steps, err := withSince(w, nil, []string{old, new}, both)
		if err != nil {
			return manual.Step{}, err
		}
		return steps[0], nil
	}
	return about, nil
}

// stepsTo is what each version up to an entry changed, the newest first.
func stepsTo(h *history, entry *versions.Entry) (steps []manual.Step, err error) {
	for e := entry; e != nil; e = h.ledger.Followed(e) {
		c, err := h.step(e)
		if err != nil {
			return nil, err
		}
		notes, err := h.notes(e)
		if err != nil {
			return nil, err
		}
		steps = append(steps, manual.Step{Old: c.Old, New: c.New, When: e.Time, Note: strings.Join(notes, "\n\n"),
			Report: c.Report})
	}
	return steps, nil
}

// withSince puts what changed between two references before what versions changed.
func withSince(w *World, steps []manual.Step, refs []string, defs []*schema.Definitions) ([]manual.Step, error) {
	c, err := comparison(w, refs, defs)
	if err != nil {
		return nil, err
	}
	if err := acceptWaivers(w, refs, c.Report); err != nil {
		return nil, err
	}
	step := manual.Step{Old: c.Old, New: c.New, Report: c.Report}
	if len(steps) > 0 && steps[0].New == c.New { // the same version, seen from another one
		step.When, step.Note = steps[0].When, steps[0].Note
		steps = steps[1:]
	}
	if len(c.Changes) > 0 {
		step.Needs = c.Needs
	}
	return slices.Concat([]manual.Step{step}, steps), nil
}

// writeSingle writes a manual as one file, unless somebody else's is there.
func (m *manualWriter) writeSingle(defs *schema.Definitions, about manual.About) (int, error) {
	content, err := manual.Single(defs, about)
	if err != nil {
		return trouble, err
	}
	path := m.w.path(m.single)
	before, err := files.ReadRegular(path, 1<<30)
	missing := errors.Is(err, fs.ErrNotExist)
	switch {
	case err != nil && !missing:
		return trouble, err
	case !missing && !manual.Untouched(before):
		return trouble, fmt.Errorf("%s was edited, or is not a manual: it is left alone; name another file, or remove it",
			m.single)
	case !missing && bytes.Equal(before, content):
		fmt.Fprintf(m.w.Out, "%s is up to date.\n", m.single)
		return fine, nil
	case m.dry:
		fmt.Fprintf(m.w.Out, "%s would be written: %s. Nothing was written.\n", m.single,
			report.Plural(len(content), "byte"))
		return found, nil
	}
	folder, err := files.Make(m.w.Dir, filepath.Dir(path))
	if err != nil {
		return trouble, err
	}
	if err := errors.Join(folder.Replace(filepath.Base(path), content, 0o644), folder.Close()); err != nil {
		return trouble, err
	}
	fmt.Fprintf(m.w.Out, "Open it with a browser: %s\n", filepath.ToSlash(m.single))
	return fine, nil
}

// written says what became of the files of a manual, and returns the status.
func (m *manualWriter) written(results []madefiles.Result) int {
	counts := map[madefiles.State]int{}
	for _, r := range results {
		counts[r.State]++
	}
	changes := counts[madefiles.New] + counts[madefiles.Changed] + counts[madefiles.Gone]
	buffered(m.w, func(p *report.Printer) {
		for _, r := range results {
			if r.State == madefiles.Yours {
				p.Line("%s %s: it was edited; remove it, and it is written again", p.In(report.Yellow, "left alone"),
					filepath.ToSlash(filepath.Join(m.into, filepath.FromSlash(r.Name))))
			}
		}
		p.Line("%s in %s: %d new, %d changed, %d gone, %d unchanged, %d of yours left alone",
			report.Plural(len(results)-counts[madefiles.Gone], "file"), m.into, counts[madefiles.New],
			counts[madefiles.Changed], counts[madefiles.Gone], counts[madefiles.Same], counts[madefiles.Yours])
		if m.dry {
			p.Line("Nothing was written.")
			return
		}
		if m.as == "markdown" {
			p.Line("Read it from: %s", filepath.ToSlash(filepath.Join(m.into, "index.md")))
			return
		}
		p.Line("Open it with a browser: %s", filepath.ToSlash(filepath.Join(m.into, "index.html")))
	})
	if m.dry && changes > 0 {
		return found
	}
	return fine
}
