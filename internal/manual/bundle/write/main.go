// Write bundles the script of the manual's pages anew; go generate runs it in the folder of the manual.
package main

import (
	"fmt"
	"os"

	"faithfulcourier/internal/manual/bundle"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	folder, err := os.Getwd()
	if err != nil {
		return err
	}
	script, err := bundle.Script(folder)
	if err != nil {
		return err
	}
	return os.WriteFile("page/manual.js", script, 0o644) //nolint:gosec // a source file, for everybody
}
