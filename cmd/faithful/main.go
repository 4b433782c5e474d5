// The program faithful: see internal/command.
package main

import (
	"os"

	"faithfulcourier/internal/command"
)

func main() {
	os.Exit(command.Run(os.Args[1:], command.Process()))
}
