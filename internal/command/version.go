package command

import (
	"flag"
	"runtime"

	"faithfulcourier/internal/report"
)

// Version is the version of the program.
const Version = "0.1.0"

var versionCommand = &command{
	name:     "version",
	short:    "says which faithful this is",
	long:     "Prints the version of the program, and what it was built with and for.",
	examples: [2]string{"faithful version", "faithful help version"},
	prepare: func(*flag.FlagSet) func(*World, []string) (int, error) {
		return func(w *World, args []string) (int, error) {
			if len(args) > 0 {
				return trouble, usage("version takes no arguments")
			}
			report.New(w.Out, report.Plain).Line("faithful %s (%s, %s/%s)", Version, runtime.Version(), runtime.GOOS,
				runtime.GOARCH)
			return fine, nil
		}
	},
}
