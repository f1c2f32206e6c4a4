// Package helper lets a program be one of the processes that it begins to do a part of its work: the keeper of a
// call of a program of one's own, or the process in which the stand-in cloud runs scripts.
package helper

import (
	"os"

	"brickrow/internal/programs"
	"brickrow/internal/yard/agent"
)

// Serve does the work, and does not return, where this process was begun for it. A main function calls it first.
func Serve() {
	for _, serve := range []func([]string) (int, bool){programs.Serve, agent.Serve} {
		if code, is := serve(os.Args[1:]); is {
			os.Exit(code)
		}
	}
}
