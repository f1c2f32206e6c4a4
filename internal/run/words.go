package run

import "strings"

// TooLate is the reason of a run that was asked to stop when that could not be obeyed any more.
const TooLate = "it was asked to stop too late: all was done by then"

// NeverBegun is the reason of a run that was cancelled while it waited.
const NeverBegun = "withdrawn while it waited for a worker; nothing was done"

// Words say how a run ended, or that it goes on.
func (r *Record) Words() string {
	kind := map[Kind]string{KindDeploy: "deployment", KindUndo: "way back", KindDelete: "deletion", KindAction: "action"}[r.Kind]
	switch r.State {
	case StatusDone:
		if r.Reason == TooLate {
			return "the " + kind + " is done; " + TooLate
		}
		return "the " + kind + " is done"
	case StatusUndone:
		if r.Cancel && strings.HasSuffix(r.Reason, "while it waited for a worker; nothing was done") { // whatever it was called then
			return "the " + kind + " was withdrawn before it began"
		}
		if r.Cancel {
			return "the " + kind + " was cancelled and undone"
		}
		return "the " + kind + " failed and was undone"
	case StatusHeld:
		return "the " + kind + " failed and is held"
	case StatusStuck:
		return "the " + kind + " is stuck"
	case StatusPaused:
		return "the " + kind + " is paused"
	case StatusQueued:
		return "the " + kind + " waits for a worker"
	case StatusUndoing:
		return "the " + kind + " is being undone"
	}
	return "the " + kind + " goes on"
}
