package whatif

import (
	"fmt"
	"slices"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Probe is a question that a run has to have answered well before it counts.
type Probe struct {
	Name     string
	Targets  []string
	Pos      tosca.Pos
	Question stack.Question // as far as it is known before
}

// Words say what is asked, and what is wanted.
func (p Probe) Words() string {
	url := tosca.Show(p.Question.URL)
	if tosca.Waits(p.Question.URL) {
		url = "an address that the cloud sets"
	}
	wants := fmt.Sprintf("wants the status %d", p.Question.Expect)
	if p.Question.Kind == "tcp" {
		wants = "wants to be let in"
	} else if p.Question.Body != "" {
		wants += " and an answer like " + p.Question.Body
	}
	return fmt.Sprintf("asks %s, %s within %s", url, wants, Length(p.Question.Within.Seconds()))
}

// probes lists what is asked at the end of the build. A probe that waits for what is left
// out is left out too.
func (c *Comparison) probes() {
	if c.Deleting || c.Comparing || c.Set.Empty() {
		return
	}
	for _, p := range c.Wanted.Probes {
		q, _ := c.Wanted.Ask(p, c.attributes)
		left := func(name string) bool { return c.only != nil && c.Change(name) == nil }
		if c.awaitsLeftOut(q.URL) || slices.ContainsFunc(p.Targets, left) {
			continue
		}
		c.Set.Probes = append(c.Set.Probes, Probe{p.Name, p.Targets, p.Pos, q})
	}
}

// jsonProbe is a probe in the JSON of a change set.
type jsonProbe struct {
	Name    string      `json:"name"`
	Kind    string      `json:"kind"`
	URL     tosca.Value `json:"url"`
	Expect  int         `json:"expect"`
	Body    string      `json:"body"`
	Within  float64     `json:"within_seconds"`
	Every   float64     `json:"every_seconds"`
	Targets []string    `json:"targets"`
}

func (c *ChangeSet) jsonProbes() []jsonProbe {
	out := []jsonProbe{}
	for _, p := range c.Probes {
		q := p.Question
		out = append(out, jsonProbe{p.Name, q.Kind, q.URL, q.Expect, q.Body, q.Within.Seconds(), q.Every.Seconds(),
			append([]string{}, p.Targets...)})
	}
	return out
}
