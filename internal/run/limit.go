package run

import (
	"sync"
	"time"
)

// Limit is how many steps may be under way at once in a target. All runs of a process
// share it. It starts with what the target says of itself, or with what was learned of it
// before; where the target refuses because it has too much to do it becomes smaller, and
// larger again while all goes well.
type Limit struct {
	mu      sync.Mutex
	told    int     // what the target says; 0 is nothing
	window  float64 // how many now
	inUse   int
	slowed  time.Time // when it became smaller last
	refused bool      // at some time
}

const (
	// mostAtOnce is how many steps are under way at most, whatever a target says.
	mostAtOnce = 256
	// slower is by how much a limit shrinks at a refusal, and pause how long it is not made
	// smaller again: the refusals of one moment are one.
	slower      = 0.7
	slowerPause = time.Second
)

// NewLimit is a limit of a target that says of itself how many it takes at once, and of
// which so many were learned; 0 is not known.
func NewLimit(told, learned int) *Limit {
	return &Limit{told: told, window: float64(StartLimit(told, learned))}
}

// StartLimit is how many steps are under way at once at the beginning of a run.
func StartLimit(told, learned int) int {
	start := told
	if learned > 0 && (start == 0 || learned < start) {
		start = learned
	}
	if start == 0 {
		start = DefaultLimit
	}
	return min(start, mostAtOnce)
}

// Now is how many may be under way at once now.
func (l *Limit) Now() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now()
}

func (l *Limit) now() int { return max(1, int(l.window)) }

// free is how many more may begin now.
func (l *Limit) free() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now() - l.inUse
}

func (l *Limit) begin(n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.inUse += n
}

// end tells of a step that has ended. It reports whether as many may be under way again as
// at most.
func (l *Limit) end() (all bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	full := l.inUse >= l.now()
	l.inUse--
	ceiling := float64(l.ceiling())
	if !full || l.window >= ceiling {
		return false
	}
	grow := 1 / l.window // one more when as many as there are have ended
	if !l.refused {
		grow = 1 // nobody knows yet how many it takes
	}
	l.window = min(ceiling, l.window+grow)
	return l.refused && l.window == ceiling
}

func (l *Limit) ceiling() int {
	if l.told > 0 {
		return min(l.told, mostAtOnce)
	}
	return mostAtOnce
}

// shrink hears that the target has too much to do. It reports whether the limit has become
// smaller.
func (l *Limit) shrink(now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused = true
	if now.Sub(l.slowed) < slowerPause || l.now() == 1 {
		return false
	}
	l.slowed, l.window = now, max(1, slower*min(l.window, float64(l.inUse)))
	return true
}

// Learned is what the target takes at once, where it has refused more; 0 is not known.
func (l *Limit) Learned() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.refused {
		return 0
	}
	return l.now()
}
