// Brickrow stands up stacks of cloud resources from TOSCA templates.
package main

import (
	"context"
	"os"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/helper"
	"brickrow/internal/tui"
)

func main() {
	helper.Serve()
	p := &cli.Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
	p.Interface = func(ctx context.Context, a *app.App, o cli.Screen) error { return tui.Run(ctx, a, tui.Options(o)) }
	os.Exit(p.Run(context.Background(), os.Args[1:]))
}
