package preview

import (
	"fmt"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/tui/part/parttest"
)

// BenchmarkKey goes from change to change.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, &app.App{})
		v := New(sh)
		v.preview = &app.Preview{ChangeSet: parttest.Changes(n), Kind: run.KindDeploy}
		v.lay()
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "nN") })
	}
}
