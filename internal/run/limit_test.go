package run

import (
	"testing"
	"time"
)

func TestLimit(t *testing.T) {
	for _, test := range []struct{ told, learned, want int }{{0, 0, 16}, {64, 0, 64}, {64, 20, 20}, {10, 20, 10}, {0, 40, 40}, {9999, 0, 256}} {
		if got := NewLimit(test.told, test.learned).Now(); got != test.want {
			t.Errorf("told %d, learned %d: %d at once, want %d", test.told, test.learned, got, test.want)
		}
	}
	now := time.Now()
	l := NewLimit(64, 0)
	l.begin(64)
	if !l.shrink(now) || l.shrink(now.Add(time.Millisecond)) || l.Now() != 44 || l.free() != -20 {
		t.Errorf("after refusals of one moment: %d", l.Now())
	}
	if !l.shrink(now.Add(2*time.Second)) || l.Now() != 31 || l.Learned() != 31 {
		t.Errorf("after another one: %d, learned %d", l.Now(), l.Learned())
	}
	again := 0
	for range 3000 { // all goes well, with as many under way as may be
		if all := l.end(); all {
			again++
		}
		l.begin(max(0, l.free()))
	}
	if l.Now() != 64 || again != 1 {
		t.Errorf("it came back to %d, told %d times", l.Now(), again)
	}
	l = NewLimit(0, 0)
	l.begin(16)
	for range 40 {
		l.end()
		l.begin(max(0, l.free()))
	}
	if l.Now() != 56 || l.Learned() != 0 {
		t.Errorf("nobody has said how many, and it takes them: %d", l.Now())
	}
	idle := NewLimit(0, 0)
	idle.begin(1)
	idle.end()
	if idle.Now() != 16 {
		t.Errorf("it grows though nobody needs it: %d", idle.Now())
	}
}
