package command

import (
	"errors"
	"flag"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

var compareCommand = &command{
	name:     "compare",
	synopsis: "[OLD] [NEW] [--header H] [--credential C] [--as KIND]",
	short:    "says what a change breaks, for whom, with proof",
	long: `Compares two definitions, latest with draft unless said otherwise, and prints
the facts with what each does to the promises of faithful.toml. Each break comes
with its witness: a payload that one side writes and the other refuses or reads
otherwise, or lines of user code that stop compiling. Exits 1 on breaks.
A reference is draft, latest, a sealed version, a folder, a file, or the URL of
a running server.`,
	examples: [2]string{"faithful compare", "faithful compare 1.0.0 draft --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		access := accessOptions(flags)
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			refs := []string{"latest", "draft"}
			if len(args) > len(refs) {
				return trouble, usage("compare takes two references at most")
			}
			copy(refs, args)
			var defs []*schema.Definitions
			for _, ref := range refs {
				d, findings, err := loadOne(w, ref, access)
				if err != nil {
					return trouble, err
				}
				if source.Errors(findings) > 0 {
					return mistakes(w, *kind, findings)
				}
				defs = append(defs, d)
			}
			c, err := comparison(w, refs, defs)
			if err != nil {
				return trouble, err
			}
			status := fine
			if c.Count(compare.Breaks) > 0 {
				status = found
			}
			if *kind == "json" {
				return status, report.New(w.Out, false).JSON(report.ComparisonJSON(c))
			}
			buffered(w, func(p *report.Printer) { p.Comparison(c) })
			return status, nil
		}
	},
}

// comparison compares under the promise of the project, or, between folders
// and files outside of any, under the one that a project has by default.
func comparison(w *World, refs []string, defs []*schema.Definitions) (c report.Comparison, err error) {
	c.Old, c.New = refs[0], refs[1]
	p, err := project.Open(w.Dir)
	if errors.Is(err, project.ErrNoProject) {
		c.Report = compare.Compare(defs[0], defs[1], promiseOf(project.Default()))
		return c, nil
	}
	if err != nil {
		return c, err
	}
	c.Report = compare.Compare(defs[0], defs[1], promiseOf(p))
	c.Old, c.Needs, err = versionNeeded(p, refs[0], c.Report)
	return c, err
}

func promiseOf(p *project.Project) compare.Promise {
	c := p.Config.Promise
	return compare.Promise{Rollout: c.Rollout, Kept: c.Kept, Forms: c.Forms, Languages: c.Languages}
}

// versionNeeded returns how a reference is called and, where it is a sealed
// version, the version that a change from it needs.
func versionNeeded(p *project.Project, ref string, r *compare.Report) (name, needs string, err error) {
	ledger, err := versions.Open(p.Dir)
	if err != nil {
		return "", "", err
	}
	entry := ledger.Find(ref)
	if ref == "latest" {
		entry = ledger.Latest()
	}
	if entry == nil {
		return ref, "", nil
	}
	needs, err = versions.Next(entry.Version, versions.Size(r.Size()))
	return entry.Version, needs, err
}
