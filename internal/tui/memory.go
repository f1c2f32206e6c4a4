package tui

import (
	"runtime/debug"
	"runtime/metrics"

	tea "charm.land/bubbletea/v2"
)

// slack is how much memory may lie idle, in bytes.
const slack = 24 << 20

// relieve gives memory back that a large comparison took and nobody holds any more.
// The collector alone would keep it for the next one, which may never come.
func relieve() tea.Msg {
	s := []metrics.Sample{
		{Name: "/gc/heap/live:bytes"}, // what the last collection left
		{Name: "/memory/classes/heap/objects:bytes"},
		{Name: "/memory/classes/heap/free:bytes"},
		{Name: "/memory/classes/heap/unused:bytes"},
	}
	metrics.Read(s)
	live := s[0].Value.Uint64()
	if taken := s[1].Value.Uint64() + s[2].Value.Uint64() + s[3].Value.Uint64(); taken > live+live/8+slack {
		debug.FreeOSMemory()
	}
	return nil
}
