package command

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/files"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/release"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/java"
	"faithfulcourier/internal/stubs/python"
	"faithfulcourier/internal/stubs/typescript"
	"faithfulcourier/internal/versions"
)

// languages lists the languages that stubs can be made in.
var languages = []stubs.Language{golang.Language{}, typescript.Language{}, python.Language{}, java.Language{}}

// usualLanguages are those of a new project, unless it is told others.
var usualLanguages = []string{languages[0].Name(), languages[1].Name()}

// withinPackage is how a language imports a folder that lies in a package.
func withinPackage(language, packageName, folder string) string {
	l, err := languageNamed(language)
	if err != nil {
		return packageName // which openProject refuses
	}
	return l.Within(packageName, folder)
}

// openProject is project.Open, and knows the languages.
func openProject(dir string) (*project.Project, error) {
	p, err := project.Open(dir)
	if err != nil {
		return p, err
	}
	var known []string
	for _, l := range languages {
		known = append(known, l.Name())
	}
	return p, p.CheckLanguages(known)
}

// languagesNamed are the languages of some names.
func languagesNamed(names []string) (list []stubs.Language, err error) {
	for _, name := range names {
		l, err := languageNamed(name)
		if err != nil {
			return nil, err
		}
		list = append(list, l)
	}
	return list, nil
}

func languageNamed(name string) (stubs.Language, error) {
	var names []string
	for _, l := range languages {
		if l.Name() == name {
			return l, nil
		}
		names = append(names, l.Name())
	}
	message := fmt.Sprintf("there is no language %q; the languages are: %s", name, strings.Join(names, ", "))
	if near := source.Nearest(name, names); near != "" {
		message += fmt.Sprintf(" (did you mean %q?)", near)
	}
	return nil, fmt.Errorf("%s", message)
}

var generateCommand = &command{
	name:     "generate",
	synopsis: "[--only LANGUAGE] [--of REF] [--watch] [--dry] [--force] [--prune] [--as KIND]",
	short:    "writes the stubs that faithful.toml names",
	long: `Writes the stubs of each [[stubs]] in faithful.toml, and only files that change.
It never touches a file that somebody else wrote, or that was edited since: it
names the file and changes nothing at all. --watch keeps running, and generates
again when definitions change; while they are wrong, the last good stubs stay.
--of 1.0.0 writes the stubs of that version next to those of the draft, into
folders and packages that end in _1_0_0, so one program can use both; the key of
in a [[stubs]] keeps them up to date. Folders of stubs that no [[stubs]] writes
any more are named; --prune removes them.`,
	examples: [2]string{"faithful generate --watch", "faithful generate --only go --dry"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		g := &generation{}
		flags.StringVar(&g.only, "only", "", "write the stubs of one `LANGUAGE`")
		ref := referenceFlags(flags)
		flags.BoolVar(&g.dry, "dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		flags.BoolVar(&g.force, "force", false, "overwrite edited files, and files that somebody else wrote")
		prune := flags.Bool("prune", false, "remove stubs that faithful.toml no longer names")
		watch := flags.Bool("watch", false, "keep running, and generate again when definitions change")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			g.of, g.w = *ref.of, w
			if len(args) > 0 {
				return trouble, usage("generate takes no arguments; the outputs are in faithful.toml")
			}
			if *watch && (g.dry || g.of != "draft" || *kind != "text") {
				return trouble, usage("--watch goes with the working definitions alone, and prints text")
			}
			if *watch {
				return watchProject(w, g)
			}
			p, err := openProject(w.Dir)
			if err != nil {
				return trouble, err
			}
			var past memory
			var defs *schema.Definitions
			var findings []source.Finding
			if g.of == "draft" {
				files, err := p.Files()
				if err != nil {
					return trouble, err
				}
				past = g.memory(w, p, files)
				if outputs, plans := past.recall(p, g.only); plans != nil {
					status, err := applyPlans(w, *kind, outputs, plans, g.dry)
					return g.remains(w, p, *kind, *prune, status, err)
				}
				defs, findings = check.Load(files)
			} else if project.IsURL(g.of) {
				access, err := ref.access.access(w)
				if err != nil {
					return trouble, err
				}
				served, err := project.Fetch(w.Context, g.of, access)
				if err != nil {
					return trouble, err
				}
				g.version = served.Version
				defs, findings = check.Load(served.Files)
			} else if defs, findings, err = loadReference(w, g.of, ref.access); err != nil {
				return trouble, err
			}
			if source.Errors(findings) > 0 {
				return mistakes(w, *kind, findings)
			}
			outputs, plans, err := g.plan(p, defs)
			if err != nil {
				return trouble, err
			}
			status, err := applyPlans(w, *kind, outputs, plans, g.dry)
			if err == nil && status == fine && !g.dry {
				past.keep(plans)
			}
			return g.remains(w, p, *kind, *prune, status, err)
		}
	},
}

// memory is where generate remembers what it made, and of what: "" where there is
// no such place, or it is no use.
type memory struct {
	cache, key string
	now        time.Time
}

// memory makes the key of all that stubs are made from: this program, the
// project's settings and its working definitions, both as they were read.
func (g *generation) memory(w *World, p *project.Project, sources []*source.File) memory {
	cache, err := os.UserCacheDir()
	if err != nil || g.force {
		return memory{}
	}
	hash := sha256.New()
	program, err := os.Executable()
	if err != nil {
		return memory{}
	}
	info, err := os.Stat(program)
	if err != nil {
		return memory{}
	}
	fmt.Fprintln(hash, program, info.Size(), info.ModTime().UnixNano(), Version)
	fmt.Fprintf(hash, "%#v\n", p.Config)
	if lines, err := versions.ReadLines(p.Dir); err == nil { // what the draft is called goes by them
		fmt.Fprintf(hash, "%q\n", lines)
	}
	for _, o := range p.Config.Stubs {
		if !o.Manual {
			continue
		}
		_ = filepath.WalkDir(filepath.Join(p.Dir, "versions", "notes"), func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() { // what can't be read is said when it is needed
				text, _ := files.ReadRegular(path, 1<<20)
				fmt.Fprintf(hash, "%q %s\n", path, text)
			}
			return nil
		})
	}
	for _, f := range sources {
		fmt.Fprintf(hash, "%q %d\n%s\n", f.Name, len(f.Text), f.Text)
	}
	return memory{filepath.Join(cache, "faithful"), fmt.Sprintf("%x", hash.Sum(nil)), w.Now()}
}

// recall returns plans that change nothing, where nothing has changed since the
// last run; else nil.
func (m memory) recall(p *project.Project, only string) ([]project.Output, []*stubs.Plan) {
	outputs, err := chooseOutputs(p, only, true)
	if err != nil || m.key == "" {
		return nil, nil
	}
	var plans []*stubs.Plan
	for _, o := range outputs {
		plan := stubs.Recall(m.cache, filepath.Join(p.Dir, filepath.FromSlash(o.Into)), m.key, m.now)
		if plan == nil {
			return nil, nil
		}
		plans = append(plans, plan)
	}
	return outputs, plans
}

func (m memory) keep(plans []*stubs.Plan) {
	for _, plan := range plans {
		if m.key != "" {
			plan.Remember(m.cache, m.key, m.now)
		}
	}
}

// generation is what generate was asked to do.
type generation struct {
	only, of   string
	dry, force bool
	version    string // what the definitions call themselves, where a server says it

	w       *World
	manuals manuals
}

// manuals are packed for servers, once for all outputs of the same definitions.
type manuals struct {
	mu     sync.Mutex
	packed map[*schema.Definitions]string
}

// of packs the manual of definitions; draft says that the stubs of the project are of them.
func (m *manuals) of(w *World, version string, defs *schema.Definitions, draft bool) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if packed, done := m.packed[defs]; done {
		return packed, nil
	}
	about, err := manualAbout(w, version, defs)
	if err != nil {
		return "", err
	}
	about.Send, about.To, about.Calling = manual.SendOwn, exampleServer, callingOf(w.Context, defs, exampleServer)
	if draft {
		if about.Calling, err = callingFor(w.Dir, about.Calling, exampleServer); err != nil {
			return "", err
		}
	}
	packed, err := manual.Packed(defs, about)
	if err != nil {
		return "", err
	}
	if m.packed == nil {
		m.packed = map[*schema.Definitions]string{}
	}
	m.packed[defs] = packed
	return packed, nil
}

// plan makes the stubs of all outputs, and compares them with what is there.
func (g *generation) plan(p *project.Project, defs *schema.Definitions) ([]project.Output, []*stubs.Plan, error) {
	p, err := p.Beside(g.of, withinPackage)
	if err != nil {
		return nil, nil, err
	}
	outputs, err := chooseOutputs(p, g.only, g.of == "draft")
	if err != nil {
		return nil, nil, err
	}
	plans := make([]*stubs.Plan, len(outputs))
	failed := make([]error, len(outputs))
	var all sync.WaitGroup
	for i, o := range outputs {
		all.Go(func() { plans[i], failed[i] = g.planOutput(p, defs, o) })
	}
	all.Wait()
	for _, err := range failed {
		if err != nil {
			return nil, nil, err
		}
	}
	return outputs, plans, nil
}

// planOutput makes the stubs of one output.
func (g *generation) planOutput(p *project.Project, defs *schema.Definitions, o project.Output) (*stubs.Plan, error) {
	language, err := languageNamed(o.Language)
	if err != nil {
		return nil, err
	}
	options, err := stubOptions(p, o)
	if err != nil {
		return nil, err
	}
	for _, own := range []struct {
		key   string
		given bool
	}{{"async", o.Async}, {"target", o.Target != ""}, {"encodings", len(o.Encodings) > 0},
		{"servlet", o.Servlet}, {"jackson", o.Jackson}} {
		if own.given && !slices.ContainsFunc(language.Options(), func(x stubs.Option) bool { return x.Key == own.key }) {
			return nil, fmt.Errorf("the output into %s has the key %q, which %s does not have: remove it", o.Into, own.key,
				o.Language)
		}
	}
	if err := language.Fits(filepath.Join(p.Dir, filepath.FromSlash(o.Into)), options); err != nil {
		return nil, fmt.Errorf("the output into %s: %w", o.Into, err)
	}
	version, err := g.version, error(nil)
	switch {
	case version != "":
	case o.Of != "" && g.of == "draft":
		version, defs, err = sealedOutput(p, o)
	default:
		version, err = project.VersionOf(p.Dir, g.of)
	}
	if err != nil {
		return nil, err
	}
	if version == "draft" {
		version = sealedSo(p, defs)
	}
	if o.Manual && !options.Server {
		return nil, fmt.Errorf("the output into %s has manual = true, and no server that answers with it: "+
			"add \"server\" to its roles, or remove manual", o.Into)
	}
	if o.Manual {
		if options.Manual, err = g.manuals.of(g.w, version, defs, g.of == "draft" && o.Of == ""); err != nil {
			return nil, err
		}
	}
	if word := stubs.Lacking(language); word != "" {
		return nil, fmt.Errorf("the stubs of %s have no row for the scalar %q: nothing is generated", language.Name(), word)
	}
	files, err := language.Generate(defs, stubs.About{Name: p.Config.Name, Version: version}, options)
	if err != nil {
		return nil, err
	}
	return stubs.Prepare(p.WriteBase(o.Into), filepath.Join(p.Dir, filepath.FromSlash(o.Into)), files, g.force)
}

// sealedOutput are the definitions of an output of a sealed version.
func sealedOutput(p *project.Project, o project.Output) (string, *schema.Definitions, error) {
	version, err := project.VersionOf(p.Dir, o.Of)
	if err != nil {
		return "", nil, err
	}
	defs, findings, err := project.Load(p.Dir, version)
	if err == nil && source.Errors(findings) > 0 {
		err = release.Unreadable(version, findings[0].Message)
	}
	return version, defs, err
}

// sealedSo is the version as which the working definitions are sealed, if they are as they
// were then; else they are the draft.
func sealedSo(p *project.Project, defs *schema.Definitions) string {
	version := "draft"
	if ledger, err := p.Ledger(); err == nil {
		for _, e := range ledger.Entries {
			if e.Digest == defs.Digest() {
				version = e.Version
			}
		}
	}
	return version
}

// remains looks for stubs that are no longer made, after a run of all outputs: with --dry
// they count as something to do.
func (g *generation) remains(w *World, p *project.Project, kind string, prune bool, status int,
	err error) (int, error) {
	if err != nil || g.of != "draft" || g.only != "" || kind != "text" {
		return status, err
	}
	left, err := leftBehind(w, p, prune && !g.dry)
	if err == nil && left && g.dry {
		status = found
	}
	return status, err
}

// leftBehind names folders of stubs that no output of the project makes any more, and
// removes with prune what generate made in them.
func leftBehind(w *World, p *project.Project, prune bool) (bool, error) {
	outputs := map[string]bool{}
	for _, o := range p.Config.Stubs {
		outputs[filepath.Clean(filepath.FromSlash(o.Into))] = true
	}
	folders, err := stubs.Folders(p.Dir, func(folder string) bool {
		if outputs[folder] {
			return true
		}
		for into := range outputs { // stubs of a version lie next to those of the draft
			rest, beside := strings.CutPrefix(folder, into+"_")
			if beside && versions.Check(strings.Join(strings.SplitN(rest, "_", 3), "."), "") == nil {
				return true
			}
		}
		return false
	})
	if err != nil || len(folders) == 0 {
		return false, err
	}
	var plans []*stubs.Plan
	for _, folder := range folders {
		plan, err := stubs.Prepare(p.WriteBase(folder), filepath.Join(p.Dir, folder), nil, false)
		if err != nil {
			return true, err
		}
		plans = append(plans, plan)
	}
	if prune {
		if err := w.apply(plans); err != nil {
			return true, err
		}
	}
	out := report.New(w.Out, w.Look)
	for i, plan := range plans {
		name := filepath.ToSlash(folders[i])
		switch {
		case !prune:
			out.Sentence(out.In(report.Yellow, "unused")+" ",
				fmt.Sprintf("%s: no output in faithful.toml makes it any more; "+
					"remove what generate made there with: faithful generate --prune", name), 2)
		case len(plan.Kept) > 0:
			out.Line("%s %s: %s, %d edited and left alone", out.In(report.Green, "removed"), name,
				report.Plural(len(plan.Remove), "file"), len(plan.Kept))
		default:
			out.Line("%s %s: %s", out.In(report.Green, "removed"), name, report.Plural(len(plan.Remove), "file"))
		}
	}
	return !prune, nil
}

// stubOptions says what an output holds, and where its types are.
func stubOptions(p *project.Project, o project.Output) (stubs.Options, error) {
	options := stubs.Options{Types: o.Has("types"), Client: o.Has("client"), Server: o.Has("server"), Package: o.Package,
		Exhaustive: o.Exhaustive, Async: o.Async, Target: o.Target,
		Encodings: o.Encodings, Servlet: o.Servlet, Jackson: o.Jackson}
	if options.Types {
		return options, nil
	}
	var shared []project.Output
	for _, other := range p.Config.Stubs {
		if other.Language == o.Language && other.Of == o.Of && other.Has("types") &&
			(o.Types == "" || filepath.Clean(other.Into) == filepath.Clean(o.Types)) {
			shared = append(shared, other)
		}
	}
	switch {
	case len(shared) == 0 && o.Types != "":
		return options, fmt.Errorf("no %s output with the role types is written into %s", o.Language, o.Types)
	case len(shared) == 0:
		return options, fmt.Errorf("the output into %s has no types: give it the role types, or add a %s output with it "+
			"that it can share", o.Into, o.Language)
	case len(shared) > 1:
		return options, fmt.Errorf("the output into %s could share the types of %s or %s: say which with types = \"%s\"",
			o.Into, shared[0].Into, shared[1].Into, shared[0].Into)
	}
	options.TypesAt, options.TypesInPackage = shared[0].Package, shared[0].Package != ""
	if !options.TypesInPackage {
		relative, err := filepath.Rel(o.Into, shared[0].Into)
		if err != nil {
			return options, err
		}
		options.TypesAt = filepath.ToSlash(relative)
	}
	return options, nil
}

// chooseOutputs are the outputs that are made: of one language, or all, and those of
// versions of their own only along with the draft's.
func chooseOutputs(p *project.Project, only string, draft bool) ([]project.Output, error) {
	var outputs []project.Output
	folders := map[string]bool{}
	for _, o := range p.Config.Stubs {
		if folders[filepath.Clean(o.Into)] {
			return nil, fmt.Errorf("two outputs in faithful.toml write into %s; give each a folder of its own", o.Into)
		}
		folders[filepath.Clean(o.Into)] = true
		if (only == "" || o.Language == only) && (o.Of == "" || draft) {
			outputs = append(outputs, o)
		}
	}
	if len(outputs) > 0 {
		return outputs, nil
	}
	if only != "" {
		if _, err := languageNamed(only); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("faithful.toml has no output in %s", only)
	}
	return nil, fmt.Errorf("faithful.toml names no output; add one, such as:\n\n  [[stubs]]\n  language = \"go\"\n  " +
		"into     = \"gen\"\n  package  = \"example.org/project/gen\"")
}

// outputReport is an output as JSON has it.
type outputReport struct {
	Language  string   `json:"language"`
	Into      string   `json:"into"`
	Written   []string `json:"written"`
	Removed   []string `json:"removed"`
	Kept      []string `json:"left"` // no longer made, but edited
	Unchanged int      `json:"unchanged"`
	Conflicts []string `json:"conflicts"`
}

func applyPlans(w *World, kind string, outputs []project.Output, plans []*stubs.Plan, dry bool) (int, error) {
	status := fine
	blocked := slices.ContainsFunc(plans, func(p *stubs.Plan) bool { return len(p.Conflicts) > 0 })
	if blocked || dry && slices.ContainsFunc(plans, (*stubs.Plan).Changes) {
		status = found
	}
	if !blocked && !dry {
		if err := w.apply(plans); err != nil {
			return trouble, err
		}
	}
	if kind == "json" {
		list := []outputReport{}
		for i, plan := range plans {
			r := outputReport{Language: outputs[i].Language, Into: outputs[i].Into, Written: neverNil(plan.Write),
				Removed: neverNil(plan.Remove),
				Kept:    neverNil(plan.Kept), Unchanged: plan.Unchanged, Conflicts: []string{}}
			for _, c := range plan.Conflicts {
				r.Conflicts = append(r.Conflicts, c.Path)
			}
			list = append(list, r)
		}
		return status, report.New(w.Out, report.Plain).JSON(map[string]any{"applied": !dry && !blocked, "outputs": list})
	}
	buffered(w, func(p *report.Printer) {
		for i, plan := range plans {
			printPlan(p, outputs[i], plan, dry, blocked)
		}
		if blocked {
			p.Line("%s", p.In(report.Red, "nothing was written, in any output"))
		}
	})
	return status, nil
}

// apply carries out plans, all under one lock.
func (w *World) apply(plans []*stubs.Plan) error {
	if !slices.ContainsFunc(plans, (*stubs.Plan).Writes) {
		return nil
	}
	_, err := w.writing("generate", w.Dir, func(*files.Lock) (int, error) {
		for _, plan := range plans {
			if err := plan.Apply(); err != nil {
				return trouble, err
			}
		}
		return fine, nil
	})
	return err
}

// neverNil makes an empty list of nil, for JSON.
func neverNil(list []string) []string { return append([]string{}, list...) }

func printPlan(p *report.Printer, o project.Output, plan *stubs.Plan, dry, blocked bool) {
	for _, c := range plan.Conflicts {
		path := filepath.ToSlash(filepath.Join(o.Into, c.Path))
		switch {
		case c.Link:
			p.Line("%s: %s: this is a link, and nothing is written through a link", p.In(report.Bold, path),
				p.In(report.Red, "error"))
			p.Line("       %s remove it, or write the stubs into another folder: into = \"…\" in faithful.toml",
				p.In(report.Green, "fix:"))
		case c.Edited:
			p.Line("%s: %s: this file was made by generate and edited since", p.In(report.Bold, path), p.In(report.Red, "error"))
			p.Line("       %s move your changes elsewhere and remove the file, or overwrite it with --force",
				p.In(report.Green, "fix:"))
		default:
			p.Line("%s: %s: this file was not made by generate, and its name is needed", p.In(report.Bold, path),
				p.In(report.Red, "error"))
			p.Line("       %s move it, or write the stubs into another folder: into = \"…\" in faithful.toml",
				p.In(report.Green, "fix:"))
		}
	}
	if blocked {
		return
	}
	for _, path := range plan.Kept {
		p.Line("%s: no longer made, but edited since: left alone", filepath.ToSlash(filepath.Join(o.Into, path)))
	}
	if dry {
		for _, path := range plan.Write {
			p.Line("  would write   %s", filepath.ToSlash(filepath.Join(o.Into, path)))
		}
		for _, path := range plan.Remove {
			p.Line("  would remove  %s", filepath.ToSlash(filepath.Join(o.Into, path)))
		}
	}
	p.Line("%s %s: %s", p.In(report.Green, o.Language), o.Into, planSummary(plan, dry))
}

// planSummary says in a line what a plan writes and removes.
func planSummary(plan *stubs.Plan, dry bool) string {
	written, removed := "written", "removed"
	if dry {
		written, removed = "to write", "to remove"
	}
	parts := []string{fmt.Sprintf("%s %s", report.Plural(len(plan.Write), "file"), written)}
	if len(plan.Remove) > 0 {
		parts = append(parts, fmt.Sprintf("%d %s", len(plan.Remove), removed))
	}
	return strings.Join(append(parts, fmt.Sprintf("%d unchanged", plan.Unchanged)), ", ")
}
