package command

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/release"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

var compareCommand = &command{
	name:     "compare",
	synopsis: "[OLD] [NEW] [--why KIND] [--fix] [--header H] [--credential C] [--as KIND]",
	short:    "says which changes are breaking, for whom, with proof",
	long: `Compares two definitions, by default latest with draft, and prints each change and
what it does to the promises in faithful.toml. Each break comes with its proof: a
payload or request that one side writes and the other refuses or reads as
something else, or lines of code that stop compiling. Exits 1 if there is a break.
A reference is draft, latest, a sealed version, rev: and a git revision, a folder,
a file, or the URL of a running server. --why says why a kind of change matters.
[[waiver]] in faithful.toml accepts a break, for a while. --fix carries out the
fixes that are safe: it keeps a name in JSON, gives a number back, makes a new field
optional, retires a number. docs/comparison.schema.json describes the JSON output.`,
	examples: [2]string{"faithful compare", "faithful compare 1.0.0 draft --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags, compareKinds...)
		access := accessOptions(flags)
		why := flags.String("why", "", "say why a `KIND` of change matters, such as field-gone; compares nothing")
		fix := flags.Bool("fix", false, "carry out the fixes that are safe, show them, and compare again")
		return func(w *World, args []string) (int, error) {
			if *why != "" {
				return fine, explainKind(w, *why)
			}
			if err := checkKind(*kind, compareKinds...); err != nil {
				return trouble, err
			}
			refs := []string{"latest", "draft"}
			if len(args) > len(refs) {
				return trouble, usage("compare takes two references at most")
			}
			copy(refs, args)
			var defs []*schema.Definitions
			for i, ref := range refs {
				d, findings, err := loadOne(w, ref, access)
				if err != nil {
					return trouble, err
				}
				if source.Errors(findings) > 0 {
					if *kind == "text" {
						report.New(w.Out, w.Look).Line("The %s side, %s, has errors; nothing was compared.",
							[]string{"old", "new"}[i], ref)
					}
					return mistakes(w, *kind, findings)
				}
				defs = append(defs, d)
			}
			var fixed []source.Finding // nil when nobody asked
			if *fix {
				var err error
				if defs[1], fixed, err = fixBreaks(w, refs, defs[0]); err != nil {
					return trouble, err
				}
			}
			c, err := comparison(w, refs, defs)
			if err != nil {
				return trouble, err
			}
			others, err := waived(w, &c, refs, defs[1], len(args) == 0)
			if err != nil {
				return trouble, err
			}
			if err := findFixes(w, refs, defs[0], &c); err != nil {
				return trouble, err
			}
			status := fine
			if len(others) > 0 && c.Needs != "" {
				if c.Needs, err = release.Needs(c.Old, c.Report, others); err != nil {
					return trouble, err
				}
			}
			breaks := c.Unwaived() > 0 || slices.ContainsFunc(others, (*release.Older).Unwaived)
			if breaks && !c.Allowed() {
				status = found
			}
			asked := strings.Join(append([]string{"faithful compare"}, args...), " ")
			return status, printComparison(w, *kind, c, others, fixed, asked)
		}
	},
}

// compareKinds are the kinds of output other than text and JSON.
var compareKinds = []string{"markdown", "sarif", "junit"}

// fixBreaks carries out the safe fixes in the files that NEW names, and writes those
// that they change.
func fixBreaks(w *World, refs []string, old *schema.Definitions) (*schema.Definitions, []source.Finding, error) {
	before, err := project.Files(w.Dir, refs[1])
	if err != nil {
		return nil, nil, err
	}
	var failed error
	after, fixed, _ := compare.FixSafely(before, func(new *schema.Definitions) *compare.Report {
		c, err := comparison(w, refs, []*schema.Definitions{old, new})
		if err == nil {
			err = acceptWaivers(w, refs, c.Report)
		}
		if failed = err; err != nil {
			return &compare.Report{}
		}
		return c.Report
	})
	if failed != nil {
		return nil, nil, failed
	}
	if err := w.rewrite("compare", changedFiles(before, after)); err != nil {
		return nil, nil, err
	}
	defs, _ := check.Load(after)
	return defs, append([]source.Finding{}, fixed...), nil
}

// mostFixes is for how many breaks fixes are looked for: each is tried by a comparison, so
// of large definitions there are fewer.
const mostFixes = 40

// findFixes finds fixes for what breaks, where NEW is files that can be edited.
func findFixes(w *World, refs []string, old *schema.Definitions, c *report.Comparison) error {
	if c.Unwaived() == 0 {
		return nil
	}
	files, err := project.Files(w.Dir, refs[1])
	if err != nil {
		return nil // a version or a server: nothing there is edited
	}
	p, err := openProject(w.Dir)
	if errors.Is(err, project.ErrNoProject) {
		p, err = project.Default(), nil
	}
	if err != nil {
		return err
	}
	promise := promiseOf(p)
	new, _ := check.Load(files)
	size := len(c.Changes)
	for _, m := range new.Modules {
		size += len(m.Declarations())
	}
	most := min(mostFixes, max(3, 40_000/size))
	again := compare.Compare(old, new, promise)
	compare.Fixes(again, files, most, func(new *schema.Definitions) *compare.Report {
		return compare.Compare(old, new, promise)
	})
	fixes := map[string]*compare.Fix{}
	for _, f := range again.Changes {
		if f.Fix != nil {
			fixes[string(f.Kind)+" "+f.Where] = f.Fix
		}
	}
	for _, f := range c.Changes {
		f.Fix = fixes[string(f.Kind)+" "+f.Where]
	}
	return nil
}

// acceptWaivers marks the breaks that the project of the draft accepts.
func acceptWaivers(w *World, refs []string, r *compare.Report) error {
	p, err := openProject(w.Dir)
	if err != nil || refs[1] != "draft" {
		return nil // outside of a project, and between versions, nobody waives
	}
	list, err := waiversOf(p)
	if err != nil {
		return err
	}
	r.Waive(list, w.Now().Format(time.DateOnly))
	return nil
}

// explainKind prints why a kind of change matters.
func explainKind(w *World, name string) error {
	if k, known := compare.About(change.Kind(name)); known {
		buffered(w, func(p *report.Printer) {
			p.Line("%s", p.In(report.Bold, name))
			p.Paragraph("  payloads  ", k.Wire)
			p.Paragraph("  code      ", k.Code)
			p.Line("%s", p.In(report.Faint, "What a change really does hangs on its values: faithful compare says it, "+
				"with a proof."))
		})
		return nil
	}
	if near := source.Nearest(name, compare.Kinds()); near != "" {
		return fmt.Errorf("%q is not a kind of change; did you mean %q?", name, near)
	}
	return fmt.Errorf("%q is not a kind of change; the kinds are: %s", name, strings.Join(compare.Kinds(), ", "))
}

// waived marks the breaks that faithful.toml accepts. Where it promises to every
// version, not to the last alone, it returns what breaks for the others as well.
func waived(w *World, c *report.Comparison, refs []string, draft *schema.Definitions,
	isDefault bool) ([]*release.Older, error) {
	p, err := openProject(w.Dir)
	if err != nil || refs[1] != "draft" {
		return nil, nil // outside of a project, and between versions, nobody waives
	}
	list, err := waiversOf(p)
	if err != nil {
		return nil, err
	}
	today := w.Now().Format(time.DateOnly)
	unmatched, over := c.Waive(list, today)
	for _, x := range over {
		fmt.Fprintf(w.Err, "faithful compare: the waiver of %s at %s is over since %s\n", x.Change, x.Where, x.Until)
	}
	var others []*release.Older
	if isDefault && p.Config.Promise.ComparedWith == "every" {
		ledger, err := p.Ledger()
		if err != nil {
			return nil, err
		}
		if others, unmatched, err = release.EveryOlder(sealedStore{ledger}, c.Report, draft, promiseOf(p),
			release.Waived{All: list, Unmatched: unmatched, Today: today}); err != nil {
			return nil, err
		}
	}
	if isDefault && len(unmatched) > 0 {
		return nil, fmt.Errorf("faithful.toml waives %s at %s, and no such change is breaking: remove the waiver",
			unmatched[0].Change, unmatched[0].Where)
	}
	return others, nil
}

// waiversOf are the waivers of a project.
func waiversOf(p *project.Project) (list []compare.Waiver, err error) {
	for _, x := range p.Config.Waivers {
		if !slices.Contains(compare.Kinds(), x.Change) {
			return nil, fmt.Errorf("faithful.toml waives %q, which is not a kind of change; did you mean %q?", x.Change,
				source.Nearest(x.Change, compare.Kinds()))
		}
		list = append(list, compare.Waiver{Change: change.Kind(x.Change), Where: x.Where, Reason: x.Reason, Until: x.Until})
	}
	return list, nil
}

// sealedStore is the ledger of a project as the rules of versions take it.
type sealedStore struct{ ledger *versions.Ledger }

func (s sealedStore) Versions() []string { return s.ledger.Releases() }

func (s sealedStore) Follows(version string) string {
	if entry := s.ledger.Find(version); entry != nil {
		if before := s.ledger.Followed(entry); before != nil {
			return before.Version
		}
	}
	return ""
}

func (s sealedStore) Definitions(version string) (*schema.Definitions, error) {
	defs, findings, err := project.Sealed(s.ledger, s.ledger.Find(version))
	if err == nil && source.Errors(findings) > 0 {
		err = release.Unreadable(version, findings[0].Message)
	}
	return defs, err
}

func printComparison(w *World, kind string, c report.Comparison, others []*release.Older, fixed []source.Finding,
	asked string) error {
	switch kind {
	case "json":
		document := report.ComparisonJSON(c)
		list := []any{}
		for _, o := range others {
			list = append(list, report.ComparisonJSON(report.Comparison{Old: o.Version, New: c.New,
				Report: &compare.Report{Changes: o.Breaks}}))
		}
		document["others"] = list
		document["fixed"] = report.FindingsJSON(fixed)
		return report.New(w.Out, report.Plain).JSON(document)
	case "markdown":
		report.New(w.Out, report.Plain).Text(report.ComparisonMarkdown(c))
		for _, o := range others {
			report.New(w.Out, report.Plain).Text("\n" + report.ComparisonMarkdown(report.Comparison{Old: o.Version, New: c.New,
				Report: &compare.Report{Changes: o.Breaks}}))
		}
	case "sarif", "junit":
		for _, o := range others {
			c.Changes = append(c.Changes, o.Breaks...)
		}
		if kind == "sarif" {
			return report.New(w.Out, report.Plain).JSON(report.ComparisonSARIF(Version, c))
		}
		out, err := report.ComparisonJUnit(c)
		if err == nil {
			w.Out.Write(out) // a broken pipe has no one to tell
		}
		return err
	default:
		buffered(w, func(p *report.Printer) {
			p.Fixed(fixed)
			p.Comparison(c)
			for _, o := range others {
				p.BeyondLast(report.Comparison{Old: o.Version, New: c.New, Report: o.Report}, o.Breaks)
			}
			if n := compare.SafeFixes(c.Report); n > 0 && fixed == nil {
				p.Line("")
				p.Line("%s safe: %s", map[bool]string{true: "One fix is", false: fmt.Sprintf("%d fixes are", n)}[n == 1],
					p.In(report.Bold, asked+" --fix"))
			}
		})
	}
	return nil
}

// comparison compares under the promise of the project, or, between folders
// and files outside of any, under the one that a project has by default.
func comparison(w *World, refs []string, defs []*schema.Definitions) (c report.Comparison, err error) {
	c.Old, c.New = refs[0], refs[1]
	p, err := openProject(w.Dir)
	if errors.Is(err, project.ErrNoProject) {
		c.Report = compare.Compare(defs[0], defs[1], promiseOf(project.Default()))
		return c, nil
	}
	if err != nil {
		return c, err
	}
	ledger, err := p.Ledger()
	if err != nil {
		return c, err
	}
	c.Report = compare.Across(defs[0], defs[1], promiseOf(p), between(ledger, refs[0], refs[1]))
	if refs[1] == "draft" {
		c.Next = p.Config.Next
	} else if entry := project.SealedAs(ledger, refs[1]); entry != nil {
		c.New = entry.Version
	}
	c.Old, c.Needs, err = versionNeeded(p, refs[0], c.Report)
	return c, err
}

// between reads the sealed versions between two references, where the first is a
// version and the second one or the draft.
func between(ledger *versions.Ledger, old, new string) func() []*schema.Definitions {
	if entry := project.SealedAs(ledger, old); entry != nil {
		old = entry.Version
	}
	if new == "draft" {
		return release.Between(sealedStore{ledger}, old, "")
	}
	entry := project.SealedAs(ledger, new)
	if entry == nil {
		return func() []*schema.Definitions { return nil }
	}
	return release.Between(sealedStore{ledger}, old, entry.Version)
}

// promiseOf is what a project promises. openProject has refused languages that are not
// known.
func promiseOf(p *project.Project) compare.Promise {
	c := p.Config.Promise
	named, _ := languagesNamed(c.Languages)
	return compare.Promise{Rollout: c.Rollout, Stored: c.Stored, Covers: c.Covers, Languages: named}
}

// versionNeeded returns how a reference is called and, where it is a sealed
// version, the version that a change from it needs.
func versionNeeded(p *project.Project, ref string, r *compare.Report) (name, needs string, err error) {
	ledger, err := p.Ledger()
	if err != nil {
		return "", "", err
	}
	entry := project.SealedAs(ledger, ref)
	if entry == nil {
		return ref, "", nil
	}
	needs, err = release.Needs(entry.Version, r, nil)
	return entry.Version, needs, err
}
