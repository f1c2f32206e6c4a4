package whatif

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// RiskKind tells what a risk is.
type RiskKind string

// The kinds of risk.
const (
	RiskData         RiskKind = "data"         // data goes, or does not move along
	RiskInterruption RiskKind = "interruption" // something that others rely on is away for a while
	RiskOpen         RiskKind = "open"         // everyone can reach what they could not
	RiskPermission   RiskKind = "permission"   // somebody may do more
	RiskSecret       RiskKind = "secret"       // a secret changes
	RiskPolicy       RiskKind = "policy"       // what kept something from being lost is taken off
	RiskCareful      RiskKind = "careful"      // the target is a careful one
	RiskOrigin       RiskKind = "origin"       // the stack was deployed from elsewhere so far
	RiskLeaving      RiskKind = "leaving"      // a place leaves a fleet, and what is there goes
)

// DataLost lists the risks that data goes for good.
func (c *ChangeSet) DataLost() []Risk {
	var out []Risk
	for _, r := range c.Risks {
		if r.Kind == RiskData {
			out = append(out, r)
		}
	}
	return out
}

// risks raises what should be looked at.
func (c *Comparison) risks() {
	if c.Careful && !c.Set.Empty() {
		c.Raise(Risk{Kind: RiskCareful, Text: fmt.Sprintf("%s in %s is careful", c.Set.Stack, c.Set.Target)})
	}
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		if !c.Comparing {
			c.dataRisk(ch)
			c.interruptionRisk(ch)
			c.secretRisks(ch)
			c.policyRisk(ch)
		}
		if c.Knowledge != nil {
			c.Knowledge.ChangeRisks(c, ch)
		}
	}
	for _, r := range c.Set.Old {
		if !stack.HoldsData(c.typeNamed(r.Type)) || r.Keep {
			continue
		}
		risk := Risk{Kind: RiskData, Resource: r.Name, Pos: r.Pos, Text: OldText(r) + " with all it holds", Fix: "copy what is needed from it first"}
		if r.Backup > 0 {
			risk.Text, risk.Fix = OldText(r)+"; a backup is taken before", backupFix(c.Set.Stack)
		}
		c.Raise(risk)
	}
	if c.Knowledge != nil {
		c.Knowledge.Risks(c)
	}
}

// RiskLines are the risks with those that are alike as one, which names all their resources.
func (c *ChangeSet) RiskLines() []Risk { return together(c.Risks) }

// StandingLines are the same of those that were there before.
func (c *ChangeSet) StandingLines() []Risk { return together(c.Standing) }

func together(list []Risk) []Risk {
	var out []Risk
	names, at := map[string][]string{}, map[string]int{}
	for _, r := range list {
		rest, alike := strings.CutPrefix(r.Text, r.Resource+" ")
		if r.Resource == "" || !alike {
			out = append(out, r)
			continue
		}
		key := string(r.Kind) + "\x00" + rest + "\x00" + strings.ReplaceAll(r.Fix, r.Resource, "\x00")
		if names[key] = append(names[key], r.Resource); len(names[key]) == 1 {
			at[key] = len(out)
			out = append(out, r)
			continue
		}
		first := &out[at[key]]
		first.Text = fmt.Sprintf("%d alike: each %s: %s", len(names[key]), rest, strings.Join(names[key], ", "))
	}
	return out
}

// Raise adds a risk to the change set.
func (c *Comparison) Raise(r Risk) {
	if r.Standing {
		c.Set.Standing = append(c.Set.Standing, r)
		return
	}
	c.Set.Risks = append(c.Set.Risks, r)
}

func (c *Comparison) dataRisk(ch *Change) {
	if ch.Recorded == nil {
		return
	}
	typ := c.typeNamed(ch.Recorded.Type)
	held, _ := stack.Holding(typ, ch.Live)
	if !stack.HoldsData(typ) && held == "" {
		return
	}
	if held == "" {
		held = "all it holds"
	}
	kept := ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep
	r := Risk{Kind: RiskData, Resource: ch.Name, Pos: ch.Pos}
	switch backup := ch.BackupText(); {
	case ch.Kind == Swap && ch.Refills() && ch.DropFirst:
		r.Text, r.Fix = ch.Name+" is swapped; "+backup, backupFix(c.Set.Stack)
	case ch.Kind == Swap && ch.Refills():
		r.Text = ch.Name + " is swapped, and filled from a backup; what is written meanwhile is not in the new one"
		r.Fix = "see that nothing is written meanwhile; it would be in the backup that is taken when the old one goes"
		if kept {
			r.Fix = "see that nothing is written meanwhile; it would be in the old one, which stays"
		}
	case ch.Kind == Swap && kept:
		r.Text = ch.Name + " is swapped; the old one stays in the cloud, what it holds does not move by itself"
		r.Fix = "move the data afterwards, then remove the old one in the cloud"
	case ch.Kind == Swap && backup != "":
		r.Text = ch.Name + " is swapped; what it holds does not move by itself, and " + backup
		r.Fix = "write restore: true into the policy Backup, and the new one is filled from it"
	case ch.Kind == Swap && ch.DropFirst:
		r.Text = ch.Name + " is swapped; what it holds goes with the old one before the new one is made, and undoing would not bring it back"
		r.Fix = "give it the policy Backup"
		if !stack.HasBackups(typ) {
			r.Fix = "copy what is needed from it first"
		}
	case ch.Kind == Swap:
		r.Text = ch.Name + " is swapped; what it holds does not move by itself and goes with the old one"
		r.Fix = "give it the policy Backup, or deploy it with the policy Keep first, so that the old one stays"
		if !stack.HasBackups(typ) {
			r.Fix = "deploy it with the policy Keep first, so that the old one stays"
		}
	case ch.Kind == Drop && backup != "":
		r.Text, r.Fix = ch.Name+" is removed with "+held+"; "+backup, backupFix(c.Set.Stack)
	case ch.Kind == Drop:
		r.Text = ch.Name + " is removed with " + held + "; the policy Keep would leave it"
		r.Fix = "give it the policy Keep or Backup and deploy that first"
		if !stack.HasBackups(typ) {
			r.Fix = "give it the policy Keep and deploy that first"
		}
	default:
		return
	}
	c.Raise(r)
}

// policyRisk raises that what kept a resource, or what it holds, from being lost is taken off it, or keeps less.
func (c *Comparison) policyRisk(ch *Change) {
	if ch.Recorded == nil || ch.Wanted == nil || ch.Kind == Drop || ch.Kind == Swap {
		return
	}
	was, is := ch.Recorded.Policies, ch.Wanted.Policies
	say := func(format string, args ...any) {
		c.Raise(Risk{Kind: RiskPolicy, Resource: ch.Name, Pos: ch.Pos, Text: ch.Name + " " + fmt.Sprintf(format, args...), Fix: "leave the policy where it is"})
	}
	if was.Keep && !is.Keep {
		say("loses the policy Keep: from then on it goes when it leaves the template, or with the stack")
	}
	if was.Guard && !is.Guard {
		say("loses the policy Guard: from then on it can be swapped and removed")
	}
	switch {
	case was.Backup > 0 && is.Backup == 0:
		say("loses the policy Backup: from then on no backup is taken before it goes")
	case is.Backup > 0 && is.Backup < was.Backup:
		say("keeps %d backups, and kept %d: older ones go", is.Backup, was.Backup)
	}
}

// typeNamed is the type of what is recorded or there, by the name that the cloud has for it: whatever the template imports, under
// whatever names, or does not import any more.
func (c *Comparison) typeNamed(name string) *tosca.NodeType {
	if c.Knowledge != nil {
		if t := c.Knowledge.Type(name); t != nil {
			return t
		}
	}
	return c.Wanted.File.Library.Nodes[name]
}

// backupFix is what one does about data that is in a backup alone.
func backupFix(name string) string { return "'brickrow backups " + name + "' lists them" }

// interruptionRisk raises edits that restart something that others rely on.
func (c *Comparison) interruptionRisk(ch *Change) {
	if ch.DropFirst {
		why := "as no two can be there at once"
		if ch.FirstFor != "" {
			why = "as " + ch.FirstFor + ", which it is linked to, goes first"
		}
		text := ch.Name + " is removed before it is made anew, " + why + "; it is away meanwhile"
		if users := c.Users(ch.Name); len(users) > 0 {
			text += " for " + Few(users)
		}
		c.Raise(Risk{Kind: RiskInterruption, Resource: ch.Name, Pos: ch.Pos, Text: text, Fix: "deploy it when nobody needs it"})
		return
	}
	what := ch.restarting()
	if len(what) == 0 {
		return
	}
	text := fmt.Sprintf("%s restarts when its %s changes, and is away meanwhile", ch.Name, strings.Join(what, " and "))
	if users := c.Users(ch.Name); len(users) > 0 {
		text += " for " + Few(users)
	}
	if wait := ch.Drains(); wait > 0 {
		text += "; it finishes its work first, within " + Length(wait.Seconds())
	}
	c.Raise(Risk{Kind: RiskInterruption, Resource: ch.Name, Pos: ch.Pos, Fix: "deploy it when nobody needs it",
		Text: text})
}

// restarting are the properties for which an edit restarts the resource.
func (ch *Change) restarting() []string {
	var what []string
	if ch.Kind != Edit && ch.Kind != Adopt || ch.Wanted == nil {
		return nil
	}
	for _, p := range ch.Properties {
		if d := ch.Wanted.Type.Property(p.Property); d != nil && !p.Link && d.Metadata["restarts"] == "true" &&
			!slices.Contains(what, p.Property) {
			what = append(what, p.Property)
		}
	}
	return what
}

// Restarts reports whether an edit restarts the resource.
func (ch *Change) Restarts() bool { return len(ch.restarting()) > 0 }

// Drains is how long the resource has to finish its work before it goes, or restarts; 0 is
// that it does not have to.
func (ch *Change) Drains() time.Duration {
	if ch.Recorded == nil || ch.Kind != Swap && ch.Kind != Drop && !ch.Restarts() {
		return 0
	}
	return ch.Recorded.Drain
}

// Users lists what rests on a resource.
func (c *Comparison) Users(name string) []string {
	if c.dependents == nil {
		c.dependents = c.Set.Graph().Dependents()
	}
	return slices.Clone(c.dependents[name])
}

// Few is a list of names that is not too long.
func Few(names []string) string {
	stack.SortNames(names)
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d others", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// Was is what a property of a resource is now: in the cloud where it was
// asked, in the record otherwise.
func (ch *Change) Was(property string) tosca.Value {
	switch {
	case ch.Live != nil:
		return ch.Live.Properties[property]
	case ch.Recorded != nil:
		return ch.Recorded.Properties[property]
	}
	return nil
}

// secretRisks raises secrets that change: what uses them must learn it.
func (c *Comparison) secretRisks(ch *Change) {
	if ch.Kind != Edit && ch.Kind != Swap && ch.Kind != Adopt || ch.Wanted == nil {
		return
	}
	for _, p := range ch.Properties {
		if p.Before == nil || p.After == nil || !tosca.HasSecret(p.After) && !tosca.HasSecret(p.Before) {
			continue
		}
		users := c.Users(ch.Name)
		text := fmt.Sprintf("%s of %s is another secret", p.Path, ch.Name)
		if len(users) > 0 {
			text += "; " + Few(users) + " may need to learn it"
		}
		c.Raise(Risk{Kind: RiskSecret, Resource: ch.Name, Pos: ch.Pos, Text: text,
			Fix: "see that nobody goes on with the old one"})
	}
}
