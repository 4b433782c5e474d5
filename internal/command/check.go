package command

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/advice"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var checkCommand = &command{
	name:     "check",
	synopsis: "[REF] [--mend] [--strict] [--as KIND]",
	short:    "reads the definitions and says what is wrong with them",
	long: `Reads, resolves and checks definitions, and prints every error of every file:
the place, the line with the part underlined, what is wrong, and how to mend it.
Of definitions that are right it says what could be better, unless [advice] in
faithful.toml switches that off. REF is draft (the working files, as without
REF), latest, a sealed version such as 1.4.0, a folder or a file. With --mend it
carries out the mends that are certain, and shows each.`,
	examples: [2]string{"faithful check", "faithful check --mend"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		mend := flags.Bool("mend", false, "change the files where a mend is certain, and show what was done")
		strict := flags.Bool("strict", false, "make advice count: exit 1 if there is any")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 1 {
				return trouble, usage("one reference at a time")
			}
			ref := "draft"
			if len(args) == 1 {
				ref = args[0]
			}
			var defs *schema.Definitions
			var findings []source.Finding
			var mended []schema.Mended
			var err error
			if *mend {
				defs, findings, mended, err = mendFiles(w, ref)
			} else {
				defs, findings, err = project.Load(w.Dir, ref)
			}
			if err != nil {
				return trouble, err
			}
			if source.Errors(findings) == 0 {
				off, err := adviceOff(w)
				if err != nil {
					return trouble, err
				}
				findings = advice.Advise(defs, findings, off)
			}
			return printCheck(w, *kind, *strict, defs, findings, mended)
		}
	},
}

// adviceOff lists the rules that the project does not want; outside of any
// project all are wanted.
func adviceOff(w *World) ([]string, error) {
	p, err := project.Open(w.Dir)
	if errors.Is(err, project.ErrNoProject) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, name := range p.Config.Advice.Off {
		if !slices.Contains(advice.Names(), name) {
			return nil, fmt.Errorf("faithful.toml switches off the advice %q, which there is not; the rules are: %s", name, strings.Join(advice.Names(), ", "))
		}
	}
	return p.Config.Advice.Off, nil
}

// mendFiles carries out the certain mends, and writes the files that they
// change.
func mendFiles(w *World, ref string) (*schema.Definitions, []source.Finding, []schema.Mended, error) {
	before, err := project.Files(w.Dir, ref)
	if err != nil {
		return nil, nil, nil, err
	}
	after, mended, defs, findings := schema.Mend(before)
	for i, f := range after {
		if f.Text != before[i].Text {
			if err := replaceText(f.Path(), f.Text); err != nil {
				return nil, nil, nil, err
			}
		}
	}
	return defs, findings, mended, nil
}

func printCheck(w *World, kind string, strict bool, defs *schema.Definitions, findings []source.Finding, mended []schema.Mended) (int, error) {
	status := fine
	if source.Errors(findings) > 0 || strict && len(findings) > 0 {
		status = found
	}
	if kind == "json" {
		count := defs.Count()
		answer := map[string]any{
			"findings": report.FindingsJSON(findings),
			"mended":   report.FindingsJSON(mendedFindings(mended)),
			"counts": map[string]int{"modules": count.Modules, "messages": count.Messages, "errors": count.Errors,
				"enums": count.Enums, "unions": count.Unions, "types": count.Types, "constants": count.Consts, "services": count.Services, "calls": count.Calls,
				"examples": count.Examples, "credentials": count.Credentials},
		}
		if source.Errors(findings) == 0 {
			answer["digest"] = defs.Digest()
		}
		return status, report.New(w.Out, false).JSON(answer)
	}
	p := report.New(w.Out, w.Colour)
	p.Mended(mendedFindings(mended))
	if source.Errors(findings) > 0 {
		return mistakes(w, kind, findings)
	}
	p.Advice(findings, advice.Why())
	line := countText(defs.Count())
	if len(findings) > 0 {
		line += fmt.Sprintf("; %d to think about", len(findings))
	}
	p.Line("%s %s", p.In(report.Green, "fine:"), line)
	return status, nil
}

func countText(c schema.Count) string {
	text := report.Plural(c.Modules, "module")
	for _, part := range []struct {
		n    int
		noun string
	}{{c.Messages, "message"}, {c.Errors, "error"}, {c.Unions, "union"}, {c.Enums, "enum"}, {c.Types, "type"}, {c.Consts, "constant"},
		{c.Examples, "example"}, {c.Credentials, "credential"}, {c.Services, "service"}, {c.Calls, "call"}} {
		if part.n > 0 {
			text += ", " + report.Plural(part.n, part.noun)
		}
	}
	return text
}

func mendedFindings(mended []schema.Mended) []source.Finding {
	var list []source.Finding
	for _, m := range mended {
		list = append(list, m.Finding)
	}
	return list
}
