package yard

// Before says what has to find a refusal of the yard before a run begins.
type Before string

// The ways to find it.
const (
	ByLanguage Before = "language" // reading and checking the template
	ByTarget   Before = "target"   // holding it against the rules and the target
	ByPlan     Before = "plan"     // the plan never asks for it
	Nothing    Before = "nothing"  // it cannot be known: it passes, or others act meanwhile
)

// Refusals is every code with which the yard refuses a change, and what finds
// it before. Tests hold it against the code and go through it one by one.
var Refusals = map[string]Before{
	"missing-property":    ByLanguage,
	"unknown-property":    ByLanguage,
	"unknown-requirement": ByLanguage,
	"missing-link":        ByLanguage,
	"too-many-links":      ByLanguage,
	"wrong-target":        ByLanguage,
	"unknown-type":        ByLanguage,

	"bad-range":       ByTarget,
	"range-outside":   ByTarget,
	"range-overlap":   ByTarget,
	"one-router":      ByTarget,
	"bad-ports":       ByTarget,
	"no-such-image":   ByTarget,
	"wrong-role":      ByTarget,
	"address-taken":   ByTarget,
	"subnet-full":     ByTarget,
	"no-address":      ByTarget,
	"bad-numbers":     ByTarget,
	"port-twice":      ByTarget,
	"bad-address":     ByTarget,
	"no-such-version": ByTarget,
	"bad-schedule":    ByTarget,
	"wrong-network":   ByTarget,
	"wrong-record":    ByTarget,
	"wrong-port":      ByTarget,
	"name-taken":      ByTarget,
	"quota":           ByTarget,
	"permission":      ByTarget,
	"not-permitted":   ByTarget,
	"not-ready":       ByTarget,
	"in-use":          ByTarget,
	"not-empty":       ByTarget,
	"unknown-target":  ByTarget,
	"not-mine":        Nothing,

	"cannot-change":       ByPlan,
	"missing-key":         ByPlan,
	"key-used-before":     ByPlan,
	"bad-request":         ByPlan,
	"no-such-resource":    Nothing,
	"no-backups":          ByPlan,
	"no-action":           ByPlan,
	"changed-meanwhile":   Nothing,
	"operation-under-way": Nothing,
	"too-many-requests":   Nothing,
	"unauthorized":        Nothing,
	"elsewhere":           ByPlan,
	"no-cluster":          Nothing,
	"not-up":              Nothing,
}
