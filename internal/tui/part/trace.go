package part

import (
	"image/color"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// TraceLook is how a change in a time line looks: filled where a run made it, the sign of what
// differs where it was made past it.
func TraceLook(t *Theme, one *stack.Trace) (string, color.Color) {
	switch {
	case one.Kind == stack.WasRemoved:
		return "□", t.States[run.Removed].Word
	case one.Foreign():
		return "≠", t.Kinds[whatif.Edit].Word
	case one.Kind == stack.WasFound:
		return "▫", t.Dim
	}
	return "●", t.States[run.IsReady].Word
}
