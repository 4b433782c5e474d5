// The program faithful: see internal/command.
package main

import (
	"os"
	"runtime/debug"

	"faithfulcourier/internal/command"
)

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetMemoryLimit(1 << 30) // above it, memory counts more
		debug.SetGCPercent(400)       // runs are short: rather some more memory than collecting again and again
	}
	os.Exit(command.Run(os.Args[1:], command.Process()))
}
