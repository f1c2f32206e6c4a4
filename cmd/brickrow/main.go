// Brickrow stands up stacks of cloud resources from TOSCA templates.
package main

import (
	"context"
	"os"

	"brickrow/internal/cli"
	"brickrow/internal/helper"
	"brickrow/internal/tui"
)

func main() {
	helper.Serve()
	p := &cli.Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Interface: tui.Run}
	os.Exit(p.Run(context.Background(), os.Args[1:]))
}
