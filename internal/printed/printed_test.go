package printed

import (
	"strings"
	"testing"

	"brickrow/internal/tosca"
)

func TestText(t *testing.T) {
	secrets := tosca.SecretsOf(tosca.Hide(tosca.String("hunter2-of-the-huts")))
	for _, step := range []int{1, 7, 4096, 1 << 20} { // however it comes in pieces, and wherever it is cut
		k := New(secrets)
		text := strings.Repeat("a word hunter2-of-the-huts and more\n", 10_000) + "the end hunter2-of-the-huts"
		for i := 0; i < len(text); i += step {
			_, _ = k.Write([]byte(text[i:min(len(text), i+step)]))
			if i%1013 == 0 && strings.Contains(k.SoFar(), "hunter2") {
				t.Fatal("a secret on the way")
			}
		}
		all := k.All()
		if len(all) > Most+200 || strings.Contains(all, "unter2") || strings.Contains(all, "-of-the") || !strings.Contains(all, "bytes are left out here") ||
			!strings.HasSuffix(all, "the end "+tosca.SecretText) || !strings.HasPrefix(all, "a word "+tosca.SecretText) {
			t.Errorf("in pieces of %d: %d bytes, %.80q … %.80q", step, len(all), all, all[len(all)-80:])
		}
		if len(k.head)+len(k.tail) > 4*Most+1<<21 {
			t.Errorf("it takes %d bytes", len(k.head)+len(k.tail))
		}
	}
	k := New(secrets)
	_, _ = k.Write([]byte("short\xff, hunter2-of-"))
	if so := k.SoFar(); so != "" {
		t.Errorf("a line that has not ended: %q", so)
	}
	if all := k.All(); all != "short·, hunter2-of-" {
		t.Errorf("%q", all)
	}
	if long := Cut(strings.Repeat("x", 200_000)); len(long) > Most+200 || !strings.Contains(long, "left out") {
		t.Errorf("%d bytes", len(long))
	}
}

// BenchmarkWrite lets 100 MB be printed; what is kept does not grow.
func BenchmarkWrite(b *testing.B) {
	piece := []byte(strings.Repeat("a line of what a script prints\n", 500))
	for b.Loop() {
		k := New(tosca.SecretsOf(tosca.Hide(tosca.String("hunter2-of-the-huts"))))
		for n := 0; n < 100<<20; n += len(piece) {
			_, _ = k.Write(piece)
		}
		b.ReportMetric(float64(cap(k.head)+cap(k.tail))/Most, "kept/limit")
	}
}
