package nameserver

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"brickrow/internal/cloud"
	"brickrow/internal/ways"
)

// wanted is the set of records that properties ask for.
func wanted(properties map[string]any) (set, error) {
	v := map[string]any{}
	text, err := json.Marshal(properties)
	if err == nil {
		err = json.Unmarshal(text, &v)
	}
	if err != nil {
		return set{}, err
	}
	one := set{zone: dns.CanonicalName(fmt.Sprint(v["zone"])), kind: dns.StringToType[strings.ToUpper(fmt.Sprint(v["kind"]))]}
	if one.name, err = absolute(fmt.Sprint(v["name"]), one.zone); err != nil {
		return one, err
	}
	ttl, err := ways.Duration(fmt.Sprint(v["ttl"]))
	if err != nil || ttl < 0 || ttl > 1<<31*time.Second-1 || ttl%time.Second != 0 {
		return one, &cloud.Problem{Type: "bad-property", Title: "no such time", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%v cannot be a ttl", v["ttl"]), Fix: "give whole seconds, minutes, hours or days"}
	}
	list, _ := v["values"].([]any)
	for _, e := range list {
		rr, err := record(one, fmt.Sprint(e), uint32(ttl/time.Second))
		if err != nil {
			return one, err
		}
		if !slices.ContainsFunc(one.records, func(o dns.RR) bool { return said(o) == said(rr) }) {
			one.records = append(one.records, rr)
		}
	}
	if one.kind == dns.TypeCNAME && len(one.records) > 1 {
		return one, &cloud.Problem{Type: "bad-property", Title: "too many", Status: http.StatusUnprocessableEntity, Detail: one.name + " can stand for one other name alone", Fix: "give one value"}
	}
	return one, nil
}

// equal reports whether two sets say the same, for the same time.
func equal(a, b set) bool {
	if len(a.records) != len(b.records) {
		return false
	}
	for _, rr := range a.records {
		if !slices.ContainsFunc(b.records, func(o dns.RR) bool { return said(o) == said(rr) && o.Header().Ttl == rr.Header().Ttl }) {
			return false
		}
	}
	return true
}

// Find is the set of records that a request would make.
func (s *server) Find(ctx context.Context, r cloud.Request) (string, error) {
	one, err := wanted(r.Properties)
	if err != nil {
		return "", err
	}
	_, err = s.there(ctx, one.id())
	return one.id(), err
}

// Create makes records where there are none of their kind.
func (s *server) Create(ctx context.Context, r cloud.Request, again bool) (string, error) {
	one, err := wanted(r.Properties)
	if err != nil {
		return "", err
	}
	m := new(dns.Msg)
	m.SetUpdate(one.zone)
	if one.kind == dns.TypeCNAME { // it stands alone
		m.NameNotUsed([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: one.name}}})
	} else {
		m.RRsetNotUsed([]dns.RR{empty(one, one.kind), empty(one, dns.TypeCNAME)})
	}
	m.Insert(one.records)
	taken := func() error {
		there, err := s.there(ctx, one.id())
		switch {
		case err == nil && again && equal(there, one):
			return nil
		case cloud.IsNotFound(err):
			return &cloud.Problem{Type: "name-taken", Title: "name taken", Status: http.StatusConflict, Fix: "choose another name, or remove what has it",
				Detail: fmt.Sprintf("%s has records of another kind, and a CNAME stands alone", one.name)}
		case err != nil:
			return err
		}
		return &cloud.Problem{Type: "name-taken", Title: "name taken", Status: http.StatusConflict, Fix: "choose another name, or adopt them by their id, " + one.id(),
			Detail: fmt.Sprintf("%s has records of the kind %s already", one.name, dns.TypeToString[one.kind])}
	}
	if err := s.update(ctx, m, one, taken); err != nil {
		return "", err
	}
	return one.id(), s.took(ctx, one)
}

// empty is a record of a kind that says nothing, as conditions want it.
func empty(one set, kind uint16) dns.RR {
	return &dns.ANY{Hdr: dns.RR_Header{Name: one.name, Rrtype: kind, Class: dns.ClassINET}}
}

// update sends a change. Not is what it means that its conditions do not hold.
func (s *server) update(ctx context.Context, m *dns.Msg, one set, not func() error) error {
	answer, err := s.ask(ctx, m)
	if err != nil {
		return err
	}
	p := &cloud.Problem{Type: "refused", Title: "the name server refuses", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("the name server refuses to change %s: %s", one.name, dns.RcodeToString[answer.Rcode])}
	switch answer.Rcode {
	case dns.RcodeSuccess:
		return nil
	case dns.RcodeYXRrset, dns.RcodeYXDomain, dns.RcodeNXRrset, dns.RcodeNameError:
		return not()
	case dns.RcodeRefused:
		p.Type, p.Status, p.Fix = "not-permitted", http.StatusForbidden, "see that the server allows updates of the zone with that key; its log says what else it does not like, such as a name without an address"
		p.Detail = fmt.Sprintf("the name server refuses what it was sent for %s with the key %s", one.name, s.key)
	case dns.RcodeNotAuth, dns.RcodeNotZone:
		return s.notAuthority(ctx, one.zone)
	case dns.RcodeServerFailure:
		p.Type, p.Status, p.Passing, p.RetryAfterMS = "busy", http.StatusServiceUnavailable, true, 500
	}
	return p
}

// took makes sure that the zone has what was sent: a server leaves out silently what cannot be.
func (s *server) took(ctx context.Context, one set) error {
	there, err := s.there(ctx, one.id())
	if err != nil && !cloud.IsNotFound(err) {
		return err
	}
	if err != nil || !equal(there, one) {
		return &cloud.Problem{Type: "refused", Title: "not taken", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("the name server has not taken the records of %s as they were sent", one.name),
			Fix: "look at what else stands under that name"}
	}
	return nil
}

// Update replaces records, if they are still what they were when they were read.
func (s *server) Update(ctx context.Context, _, id string, change cloud.Request, was ways.Known) (string, error) {
	there, err := s.there(ctx, id)
	if err != nil {
		return "", err
	}
	v := object(there, was).Properties
	for name, given := range change.Properties {
		if _, ours := v[name]; ours && given != nil {
			v[name] = given
		}
	}
	one, err := wanted(v)
	if err != nil {
		return "", err
	}
	if one.id() != there.id() {
		return "", &cloud.Problem{Type: "cannot-change", Title: "cannot be changed", Status: http.StatusUnprocessableEntity, Detail: "records cannot go under another name, or be of another kind"}
	}
	if equal(one, there) {
		return "", nil
	}
	m := new(dns.Msg)
	m.SetUpdate(one.zone)
	m.Used(there.records)
	m.RemoveRRset([]dns.RR{empty(one, one.kind)})
	m.Insert(one.records)
	if err := s.update(ctx, m, one, func() error { return changed(one) }); err != nil {
		return "", err
	}
	return "", s.took(ctx, one)
}

func changed(one set) error {
	return &cloud.Problem{Type: "changed-meanwhile", Title: "changed meanwhile", Status: http.StatusPreconditionFailed, Fix: "look at it again, then decide",
		Detail: "the records of " + one.name + " were changed meanwhile"}
}

// Remove removes records, if they are still what they were when they were read.
func (s *server) Remove(ctx context.Context, _, id string, _ ways.Known) error {
	there, err := s.there(ctx, id)
	if err != nil {
		return err
	}
	m := new(dns.Msg)
	m.SetUpdate(there.zone)
	m.Used(there.records)
	m.RemoveRRset([]dns.RR{empty(there, there.kind)})
	if err := s.update(ctx, m, there, func() error { return changed(there) }); err != nil {
		return err
	}
	if _, err := s.there(ctx, id); !cloud.IsNotFound(err) {
		if err == nil {
			err = &cloud.Problem{Type: "refused", Title: "not removed", Status: http.StatusUnprocessableEntity, Detail: "the name server does not let go of the records of " + there.name, Fix: "a zone keeps the names of its servers: leave them to it"}
		}
		return err
	}
	return nil
}
