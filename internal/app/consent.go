package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Consent is what somebody has to agree to by more than a yes before something is carried out: that data goes, that a stack is
// deployed from elsewhere than before, that places leave a fleet. It is worked out here for whatever can bring that about; how
// it is asked, and how it is given, follows from it. What was agreed to stays so when a run is taken up again.
type Consent struct {
	Name  string        // that is typed: of the stack, or of the fleet
	Risks []whatif.Risk // each of which has to be accepted
	Named bool          // the name is typed in any case: the target, or the stack, is a careful one
}

// Acceptable are the kinds of risks that can be accepted beforehand.
var Acceptable = []whatif.RiskKind{whatif.RiskData, whatif.RiskOrigin, whatif.RiskLeaving}

// Word is what has to be typed by whoever agrees; "" is that a yes is enough.
func (c Consent) Word() string {
	if c.Named || len(c.Risks) > 0 {
		return c.Name
	}
	return ""
}

// Given refuses where nobody is asked and not all has been accepted beforehand, by the kinds of the risks.
func (c Consent) Given(accepted []string) error {
	for _, kind := range Acceptable {
		var open []whatif.Risk
		for _, r := range c.Risks {
			if r.Kind == kind && !slices.Contains(accepted, string(kind)) {
				open = append(open, r)
			}
		}
		if len(open) == 0 {
			continue
		}
		more := ""
		if len(open) > 1 {
			more = fmt.Sprintf(" (and %d more)", len(open)-1)
		}
		mend := "add --accept " + string(kind) + " to --yes"
		if kind == whatif.RiskData && !c.Named {
			mend += ", or, where that never matters, throwaway: true to the stack file"
		}
		return refusal("%s%s: %s", open[0].Text, more, mend)
	}
	return nil
}

// CheckAccepted refuses what cannot be accepted.
func CheckAccepted(kinds []string) error {
	var known []string
	for _, k := range Acceptable {
		known = append(known, string(k))
	}
	for _, k := range kinds {
		if !slices.Contains(known, k) {
			return fmt.Errorf("--accept takes %s, not '%s'", strings.Join(known, ", "), k)
		}
	}
	return nil
}

// consentTo is what has to be agreed to of some risks.
func consentTo(name string, risks []whatif.Risk, careful, throwaway bool) Consent {
	c := Consent{Name: name, Named: careful}
	for _, r := range risks {
		if r.Standing || !slices.Contains(Acceptable, r.Kind) || r.Kind == whatif.RiskData && throwaway && !careful {
			continue
		}
		c.Risks = append(c.Risks, r)
	}
	return c
}

// Consent is what has to be agreed to before a preview is carried out.
func (p *Preview) Consent() Consent {
	return consentTo(p.ChangeSet.Stack, p.Risks, p.careful, p.throwaway)
}

// Consent is what has to be agreed to before something is done to what runs.
func (s *Acts) Consent() Consent {
	var risks []whatif.Risk
	if s.Verb == run.VerbRestore {
		for _, p := range s.Parts {
			risks = append(risks, whatif.Risk{Kind: whatif.RiskData, Resource: p.Name, Text: s.Overwrites(p.Name)})
		}
	}
	return consentTo(s.Stack.Name, risks, s.careful, s.Stack.Throwaway)
}

// Overwrites says that a restore replaces what a resource holds now.
func (s *Acts) Overwrites(name string) string {
	return fmt.Sprintf("what %s holds now is replaced by what is in the backup; a backup of it is taken first", name)
}

// UndoConsent is what has to be agreed to before the last run of a stack is undone that was held or paused: what it has made may
// have been used since, and goes with what it holds.
func (a *App) UndoConsent(ctx context.Context, st *stack.Stack) (Consent, error) {
	r, err := a.store.RunNumber(ctx, st.ID, 0)
	if err != nil {
		return Consent{}, err
	}
	in, err := a.settings()
	if err != nil {
		return Consent{}, err
	}
	var risks []whatif.Risk
	if r.State == run.StatusHeld || r.State == run.StatusPaused {
		entries, err := a.store.Journal(ctx, r.ID)
		if err != nil {
			return Consent{}, err
		}
		for _, e := range entries {
			if e.Step.Action == run.Create && e.State.Good() && stack.HoldsData(a.Profile.Type(e.Step.Type)) {
				risks = append(risks, whatif.Risk{Kind: whatif.RiskData, Resource: e.Step.Resource,
					Text: fmt.Sprintf("%s, which run %d has made, is removed with all it holds", e.Step.Resource, r.Number)})
			}
		}
		slices.SortFunc(risks, func(a, b whatif.Risk) int { return stack.CompareNames(a.Resource, b.Resource) })
	}
	return consentTo(st.Name, risks, st.Careful || slices.Contains(in.Careful, st.Target.String()), st.Throwaway), nil
}

// UndoQuestion asks whether the last run of a stack is to be undone.
func UndoQuestion(st *stack.Stack) string {
	return fmt.Sprintf("Undo the last run of %s in %s / %s, with what it has made?", st.Name, st.Target.Account, st.Target.Region)
}

// Consent is what has to be agreed to before a fleet is deployed or deleted.
func (p *FleetPreview) Consent() Consent {
	c := Consent{Name: p.File.Fleet, Named: p.Kind == run.KindDelete}
	for _, x := range p.Places {
		of := consentTo(p.File.Fleet, x.Lost, x.Careful, false)
		c.Named = c.Named || of.Named
		c.Risks = append(c.Risks, of.Risks...)
	}
	return c
}
