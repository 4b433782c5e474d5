package command

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/advice"
	"faithfulcourier/internal/check"
	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var checkCommand = &command{
	name:     "check",
	synopsis: "[REF] [--fix] [--strict] [--remote [--update]] [--as KIND]",
	short:    "reads the definitions and says what is wrong with them",
	long: `Reads, resolves and checks the definitions. Prints every error of every file: the
place, the line, what is wrong, and how to fix it. For definitions that are right,
it prints advice on what could be better; [advice] in faithful.toml switches rules
off. REF is draft (the working files, the default), latest, a sealed version such
as 1.4.0, a folder, a file, or the URL of a running server. --fix carries out the
fixes that are certain, and shows each. --remote asks the servers that are sources
in faithful.toml whether their definitions have changed; --update takes over what
they say now.`,
	examples: [2]string{"faithful check", "faithful check --fix"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags, "sarif")
		fix := flags.Bool("fix", false, "carry out the fixes that are certain, and show them")
		remote := flags.Bool("remote", false, "ask the servers that are sources whether their definitions have changed")
		update := flags.Bool("update", false, "with --remote: take over what the servers say now")
		access := accessOptions(flags)
		strict := flags.Bool("strict", false, "exit 1 if there is advice, too")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind, "sarif"); err != nil {
				return trouble, err
			}
			if len(args) > 1 {
				return trouble, usage("one reference at a time")
			}
			ref := "draft"
			if len(args) == 1 {
				ref = args[0]
			}
			if *update && !*remote {
				return trouble, usage("--update goes with --remote")
			}
			if *remote {
				if ref != "draft" || *kind != "text" || *fix {
					return trouble, usage("--remote goes with the working definitions alone, and prints text")
				}
				return checkRemotes(w, access, *update)
			}
			var defs *schema.Definitions
			var findings []source.Finding
			var fixed []check.Fixed
			var err error
			if *fix {
				defs, findings, fixed, err = fixFiles(w, ref)
			} else {
				defs, findings, err = loadReference(w, ref, access)
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
			return printCheck(w, *kind, *strict, defs, findings, fixed)
		}
	},
}

// adviceOff lists the rules that the project does not want; outside of any
// project all are wanted.
func adviceOff(w *World) ([]string, error) {
	p, err := openProject(w.Dir)
	if errors.Is(err, project.ErrNoProject) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, name := range p.Config.Advice.Off {
		if !slices.Contains(advice.Names(), name) {
			if near := source.Nearest(name, advice.Names()); near != "" {
				return nil, fmt.Errorf("faithful.toml switches off the advice %q, which there is not; did you mean %q?", name, near)
			}
			return nil, fmt.Errorf("faithful.toml switches off the advice %q, which there is not; the rules are: %s", name,
				strings.Join(advice.Names(), ", "))
		}
	}
	return p.Config.Advice.Off, nil
}

// fixFiles carries out the certain fixes, and writes the files that they
// change.
func fixFiles(w *World, ref string) (*schema.Definitions, []source.Finding, []check.Fixed, error) {
	before, err := project.Files(w.Dir, ref)
	if err != nil {
		return nil, nil, nil, err
	}
	after, fixed, defs, findings := check.Fix(before)
	return defs, findings, fixed, w.rewrite("check", changedFiles(before, after))
}

func printCheck(w *World, kind string, strict bool, defs *schema.Definitions, findings []source.Finding,
	fixed []check.Fixed) (int, error) {
	status := fine
	switch {
	case source.Errors(findings) > 0:
		status = wrong
	case strict && len(findings) > 0:
		status = found
	}
	if kind == "json" {
		count := defs.Count()
		answer := map[string]any{
			"findings": report.FindingsJSON(findings),
			"fixed":    report.FindingsJSON(fixedFindings(fixed)),
			"counts": map[string]int{"modules": count.Modules, "messages": count.Messages, "errors": count.Errors,
				"enums": count.Enums, "unions": count.Unions, "types": count.Types, "constants": count.Consts,
				"services": count.Services, "calls": count.Calls,
				"examples": count.Examples, "credentials": count.Credentials},
		}
		if source.Errors(findings) == 0 {
			answer["digest"] = defs.Digest()
		}
		return status, report.New(w.Out, report.Plain).JSON(answer)
	}
	if kind == "sarif" {
		return status, report.New(w.Out, report.Plain).JSON(report.FindingsSARIF(Version, findings))
	}
	p := report.New(w.Out, w.Look)
	p.Fixed(fixedFindings(fixed))
	if source.Errors(findings) > 0 {
		return mistakes(w, kind, findings)
	}
	p.Advice(findings, advice.Why())
	line := countText(defs.Count())
	if len(findings) > 0 {
		line += "; " + report.Plural(len(findings), "piece") + " of advice"
	}
	p.Sentence(p.In(report.Green, "fine:")+" ", line, 6)
	return status, nil
}

func countText(c schema.Count) string {
	text := report.Plural(c.Modules, "module")
	for _, part := range []struct {
		n    int
		noun string
	}{{c.Messages, "message"}, {c.Errors, "error"}, {c.Unions, "union"}, {c.Enums, "enum"}, {c.Types, "type"},
		{c.Consts, "constant"},
		{c.Examples, "example"}, {c.Credentials, "credential"}, {c.Services, "service"}, {c.Calls, "call"}} {
		if part.n > 0 {
			text += ", " + report.Plural(part.n, part.noun)
		}
	}
	return text
}

func fixedFindings(fixed []check.Fixed) []source.Finding {
	var list []source.Finding
	for _, m := range fixed {
		list = append(list, m.Finding)
	}
	return list
}

// checkRemotes asks the servers that are sources. With take, what they say today
// is kept.
func checkRemotes(w *World, a accessFlags, take bool) (int, error) {
	p, err := openProject(w.Dir)
	if err != nil {
		return trouble, err
	}
	access, err := a.access(w)
	if err != nil {
		return trouble, err
	}
	remotes, err := p.Remotes()
	if err != nil && !take {
		return trouble, err
	}
	if err != nil { // a lock that can't be read is written anew
		for _, s := range p.Config.Sources {
			if project.IsURL(s) {
				remotes = append(remotes, project.Remote{URL: s})
			}
		}
	}
	out := report.New(w.Out, w.Look)
	if len(remotes) == 0 {
		out.Line("No source in faithful.toml is a server: there is nothing to ask.")
		return fine, nil
	}
	var keep []*project.Locked
	status := fine
	for _, r := range remotes {
		served, err := project.Fetch(w.Context, r.URL, access)
		if err != nil {
			return trouble, err
		}
		now, moved, err := r.Moved(served)
		if err != nil {
			return trouble, err
		}
		keep = append(keep, now)
		name := fmt.Sprintf("%s (%s %s)", r.URL, now.Name, now.Version)
		switch {
		case len(moved) == 0:
			out.Line("%s  %s", out.In(report.Green, "unchanged"), name)
		case take && r.Kept == nil:
			out.Line("%s  %s", out.In(report.Blue, "fetched"), name)
		case take:
			out.Line("%s  %s: %s", out.In(report.Blue, "taken over"), name, strings.Join(moved, ", "))
		case r.Kept == nil:
			status = found
			out.Line("%s  %s", out.In(report.Yellow, "not fetched yet"), name)
		default:
			status = found
			out.Line("%s  %s: %s", out.In(report.Yellow, "moved on"), name, strings.Join(moved, ", "))
		}
	}
	if status == found {
		out.Line("Take over what they say with: faithful check --remote --update")
	}
	if !take {
		return status, nil
	}
	return w.writing("check", p.Dir, func(*files.Lock) (int, error) { return status, p.Keep(keep) })
}
