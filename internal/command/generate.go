package command

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/typescript"
)

// languages lists the languages that stubs can be made in.
var languages = []stubs.Language{golang.Language{}, typescript.Language{}}

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
		message += fmt.Sprintf(" (did you mean %s?)", near)
	}
	return nil, fmt.Errorf("%s", message)
}

var generateCommand = &command{
	name:     "generate",
	synopsis: "[--only LANGUAGE] [--dry] [--force] [--as KIND]",
	short:    "writes the stubs that faithful.toml names",
	long: `Writes the stubs of each [[stubs]] in faithful.toml. Only what changed is
written. A file that somebody else wrote, or that was edited since, is never
touched: generate names it and changes nothing at all.`,
	examples: [2]string{"faithful generate", "faithful generate --only go --dry"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		only := flags.String("only", "", "write the stubs of one `LANGUAGE`")
		dry := flags.Bool("dry", false, "write nothing, say what would be written; exit 1 if that is anything")
		force := flags.Bool("force", false, "overwrite edited files and files of others")
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 0 {
				return trouble, usage("generate takes no arguments; the outputs are in faithful.toml")
			}
			p, defs, err := draft(w, *kind)
			if err != nil {
				return trouble, err
			}
			outputs, err := chooseOutputs(p, *only)
			if err != nil {
				return trouble, err
			}
			carried, left := stubs.Carried(defs)
			if len(carried.Modules) == 0 {
				return trouble, fmt.Errorf("no module can be carried by stubs yet; %s: %s", left[0].Module, leftOutReason(left[0]))
			}
			var plans []*stubs.Plan
			for _, o := range outputs {
				language, err := languageNamed(o.Language)
				if err != nil {
					return trouble, err
				}
				files, err := language.Generate(carried, stubs.About{Name: p.Config.Name, Version: "draft"}, map[string]string{"package": o.Package})
				if err != nil {
					return trouble, err
				}
				plan, err := stubs.Prepare(filepath.Join(p.Dir, filepath.FromSlash(o.Into)), files, *force)
				if err != nil {
					return trouble, err
				}
				plans = append(plans, plan)
			}
			return applyPlans(w, *kind, outputs, plans, left, *dry)
		}
	},
}

func chooseOutputs(p *project.Project, only string) ([]project.Output, error) {
	var outputs []project.Output
	folders := map[string]bool{}
	for _, o := range p.Config.Stubs {
		if folders[filepath.Clean(o.Into)] {
			return nil, fmt.Errorf("two outputs in faithful.toml write into %s; give each a folder of its own", o.Into)
		}
		folders[filepath.Clean(o.Into)] = true
		if only == "" || o.Language == only {
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
	return nil, fmt.Errorf("faithful.toml names no output; add one, such as:\n\n  [[stubs]]\n  language = \"go\"\n  into     = \"gen\"\n  package  = \"example.org/project/gen\"")
}

// outputReport is an output as JSON has it.
type outputReport struct {
	Language  string   `json:"language"`
	Into      string   `json:"into"`
	Written   []string `json:"written"`
	Removed   []string `json:"removed"`
	Kept      []string `json:"kept"` // no longer made, but edited
	Unchanged int      `json:"unchanged"`
	Conflicts []string `json:"conflicts"`
}

// leftOutReason says why stubs leave a module out.
func leftOutReason(l stubs.LeftOut) string {
	if l.Place.File == nil {
		return l.What
	}
	return fmt.Sprintf("stubs do not carry %s yet (%s)", l.What, report.Where(l.Place))
}

func applyPlans(w *World, kind string, outputs []project.Output, plans []*stubs.Plan, left []stubs.LeftOut, dry bool) (int, error) {
	status := fine
	blocked := slices.ContainsFunc(plans, func(p *stubs.Plan) bool { return len(p.Conflicts) > 0 })
	for _, plan := range plans {
		if blocked || dry && plan.Changes() {
			status = found
		}
		if blocked || dry {
			continue
		}
		if err := plan.Apply(); err != nil {
			return trouble, err
		}
	}
	if kind == "json" {
		list := []outputReport{}
		for i, plan := range plans {
			r := outputReport{Language: outputs[i].Language, Into: outputs[i].Into, Written: neverNil(plan.Write), Removed: neverNil(plan.Remove),
				Kept: neverNil(plan.Kept), Unchanged: plan.Unchanged, Conflicts: []string{}}
			for _, c := range plan.Conflicts {
				r.Conflicts = append(r.Conflicts, c.Path)
			}
			list = append(list, r)
		}
		leftOut := map[string]string{}
		for _, l := range left {
			leftOut[l.Module] = leftOutReason(l)
		}
		return status, report.New(w.Out, false).JSON(map[string]any{"applied": !dry && !blocked, "outputs": list, "left_out": leftOut})
	}
	buffered(w, func(p *report.Printer) {
		for i, plan := range plans {
			printPlan(p, outputs[i], plan, dry, blocked)
		}
		for _, l := range left {
			p.Line("%s %s: %s", p.In(report.Yellow, "left out"), l.Module, leftOutReason(l))
		}
		if blocked {
			p.Line("%s", p.In(report.Red, "nothing was written, in any output"))
		}
	})
	return status, nil
}

// neverNil makes an empty list of nil, for JSON.
func neverNil(list []string) []string { return append([]string{}, list...) }

func printPlan(p *report.Printer, o project.Output, plan *stubs.Plan, dry, blocked bool) {
	for _, c := range plan.Conflicts {
		path := filepath.ToSlash(filepath.Join(o.Into, c.Path))
		if c.Edited {
			p.Line("%s: %s: this file was made by generate and edited since", p.In(report.Bold, path), p.In(report.Red, "error"))
			p.Line("       %s move your changes elsewhere and remove the file, or overwrite it with --force", p.In(report.Green, "mend:"))
		} else {
			p.Line("%s: %s: this file was not made by generate, and its name is needed", p.In(report.Bold, path), p.In(report.Red, "error"))
			p.Line("       %s move it, or write the stubs into another folder: into = \"…\" in faithful.toml", p.In(report.Green, "mend:"))
		}
	}
	if blocked {
		return
	}
	for _, path := range plan.Kept {
		p.Line("%s: no longer made, but edited since: left alone", filepath.ToSlash(filepath.Join(o.Into, path)))
	}
	written, removed := "written", "removed"
	if dry {
		written, removed = "to write", "to remove"
		for _, path := range plan.Write {
			p.Line("  would write   %s", filepath.ToSlash(filepath.Join(o.Into, path)))
		}
		for _, path := range plan.Remove {
			p.Line("  would remove  %s", filepath.ToSlash(filepath.Join(o.Into, path)))
		}
	}
	parts := []string{fmt.Sprintf("%s %s", report.Plural(len(plan.Write), "file"), written)}
	if len(plan.Remove) > 0 {
		parts = append(parts, fmt.Sprintf("%d %s", len(plan.Remove), removed))
	}
	parts = append(parts, fmt.Sprintf("%d unchanged", plan.Unchanged))
	p.Line("%s %s: %s", p.In(report.Green, o.Language), o.Into, strings.Join(parts, ", "))
}
