// Command manual writes the manual page of dexamen, from what its --help says, to the standard output.
package main

import (
	"fmt"
	"os"

	docs "github.com/urfave/cli-docs/v3"

	"dexamen/internal/cli"
)

func main() {
	text, err := docs.ToManWithSection(cli.Root(), 1)
	if err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
	fmt.Print(text)
}
