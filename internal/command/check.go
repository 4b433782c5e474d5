package command

import (
	"flag"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var checkCommand = &command{
	name:     "check",
	synopsis: "[REF] [--as KIND]",
	short:    "reads the definitions and says what is wrong with them",
	long: `Reads, resolves and checks definitions, and prints every error of every file:
the place, the line with the part underlined, what is wrong, and how to mend it.
REF is draft (the working files, as without REF), latest, a sealed version such
as 1.4.0, a folder or a file.`,
	examples: [2]string{"faithful check", "faithful check definitions/booking.faithful --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
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
			defs, findings, err := project.Load(w.Dir, ref)
			if err != nil {
				return trouble, err
			}
			return printCheck(w, *kind, defs, findings)
		}
	},
}

func printCheck(w *World, kind string, defs *schema.Definitions, findings []source.Finding) (int, error) {
	status := fine
	if source.Errors(findings) > 0 {
		status = found
	}
	if kind == "json" {
		count := defs.Count()
		answer := map[string]any{
			"findings": report.FindingsJSON(findings),
			"counts": map[string]int{"modules": count.Modules, "messages": count.Messages, "errors": count.Errors,
				"enums": count.Enums, "constants": count.Consts, "services": count.Services, "calls": count.Calls},
		}
		if status == fine {
			answer["digest"] = defs.Digest()
		}
		return status, report.New(w.Out, false).JSON(answer)
	}
	if status != fine {
		return mistakes(w, kind, findings)
	}
	p := report.New(w.Out, w.Colour)
	p.Line("%s %s", p.In(report.Green, "fine:"), countText(defs.Count()))
	return fine, nil
}

func countText(c schema.Count) string {
	text := report.Plural(c.Modules, "module")
	for _, part := range []struct {
		n    int
		noun string
	}{{c.Messages, "message"}, {c.Errors, "error"}, {c.Enums, "enum"}, {c.Consts, "constant"}, {c.Services, "service"}, {c.Calls, "call"}} {
		if part.n > 0 {
			text += ", " + report.Plural(part.n, part.noun)
		}
	}
	return text
}
