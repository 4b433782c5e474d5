package command

import (
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
	synopsis: "[OLD] [NEW] [--as KIND]",
	short:    "says what a change breaks, for whom, with proof",
	long: `Compares two definitions, latest with draft unless said otherwise, and prints
the facts with what each does to the promises of faithful.toml. Each break comes
with its witness: a payload that one side writes and the other refuses or reads
otherwise, or lines of user code that stop compiling. Exits 1 on breaks.
A reference is draft, latest, a sealed version, a folder or a file.`,
	examples: [2]string{"faithful compare", "faithful compare 1.0.0 draft --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
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
				d, findings, err := project.Load(w.Dir, ref)
				if err != nil {
					return trouble, err
				}
				if source.Errors(findings) > 0 {
					return mistakes(w, *kind, findings)
				}
				defs = append(defs, d)
			}
			p, err := project.Open(w.Dir)
			if err != nil {
				return trouble, err
			}
			c := report.Comparison{Old: refs[0], New: refs[1], Report: compare.Compare(defs[0], defs[1], promiseOf(p))}
			if c.Old, c.Needs, err = versionNeeded(p, refs[0], c.Report); err != nil {
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
