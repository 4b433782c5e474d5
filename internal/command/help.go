package command

import (
	"flag"

	"faithfulcourier/internal/report"
)

// helpCommand is a function, since help refers back to all commands.
func helpCommand() *command {
	return &command{
		name:     "help",
		synopsis: "[COMMAND]",
		short:    "says what a command does",
		long:     "Says what faithful, or one of its commands, does.",
		examples: [2]string{"faithful help", "faithful help compare"},
		prepare: func(*flag.FlagSet) func(*World, []string) (int, error) {
			return func(w *World, args []string) (int, error) {
				if len(args) == 0 {
					overview(report.New(w.Out, w.Look))
					return fine, nil
				}
				return Run([]string{args[0], "-h"}, w), nil
			}
		},
	}
}

func overview(p *report.Printer) {
	p.Line("%s: definitions of messages and services, the stubs made from them,", p.In(report.Bold, "faithful"))
	p.Line("and proof of which changes to them are breaking.")
	p.Line("")
	p.Line("Usage: faithful COMMAND [options] [arguments]")
	p.Line("")
	var rows [][]string
	for _, c := range all() {
		rows = append(rows, []string{c.name, c.short})
	}
	p.Table("  ", rows)
	p.Line("")
	p.Line("faithful help COMMAND says more about one. To see the whole story: faithful demo")
	p.Line("Exit status: 0 fine, 1 something was found, 2 wrong usage or something out of reach, 3 wrong definitions.")
}
