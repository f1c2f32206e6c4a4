// Package nameserver keeps records in the zones of authoritative name servers as stacks want them: it
// changes them by dynamic update (RFC 2136) signed with a key (TSIG, RFC 8945), each change under the
// condition that what it replaces is what it was, and reads them by transferring their zone (RFC 5936).
package nameserver

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
	"brickrow/internal/ways"
)

// The type of what stands in a zone, and the type of connection to a name server.
const (
	Connection = "DnsConnection"
	Records    = "DnsRecords"
)

// Kind is the kind of connection that leads to a name server.
type Kind struct{ All *ways.Connections }

// Open yields the name server.
func (k Kind) Open(c ways.Connection) (cloud.End, error) {
	port := c.Settings.Text("port")
	if port == "" {
		port = "53"
	}
	algorithm := c.Settings.Text("algorithm")
	if algorithm == "" {
		algorithm = "hmac-sha256"
	}
	s := &server{address: net.JoinHostPort(c.Settings.Text("server"), port), key: dns.CanonicalName(c.Settings.Text("key_name")), algorithm: dns.Fqdn(algorithm), secret: strings.TrimSpace(c.Settings.Text("key"))}
	if list, ok := c.Settings["zones"].(tosca.List); ok {
		for _, z := range list {
			s.zones = append(s.zones, dns.CanonicalName(tosca.Show(z)))
		}
	}
	if _, err := base64.StdEncoding.DecodeString(s.secret); err != nil || s.secret == "" {
		return cloud.End{}, errors.New("its key is not base64")
	}
	return cloud.End{Cloud: k.All.Direct(c, s), Target: c.Target, Place: Connection + " " + s.address}, nil
}

// Answers asks something signed: the answer is signed too where the key is right.
func (Kind) Answers(ctx context.Context, end cloud.End) error {
	return end.Cloud.(interface{ Answers(context.Context) error }).Answers(ctx)
}

// server is a name server, asked with one key.
type server struct {
	address, key, algorithm, secret string
	zones                           []string // that are looked at in any case
}

var _ ways.System = (*server)(nil)

// Types are those of what stands in a zone.
func (s *server) Types() []string { return []string{Records} }

// Close has nothing to close: each question has its own connection.
func (s *server) Close() {}

const (
	patience = 10 * time.Second // for one answer
	fudge    = 300              // seconds by which the clocks may differ
)

// ask sends a signed message and yields the answer.
func (s *server) ask(ctx context.Context, m *dns.Msg) (*dns.Msg, error) {
	m.SetTsig(s.key, s.algorithm, fudge, time.Now().Unix())
	c := &dns.Client{Net: "tcp", Timeout: patience, TsigSecret: map[string]string{s.key: s.secret}}
	answer, _, err := c.ExchangeContext(ctx, m, s.address)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if answer != nil {
		if p := s.unsigned(answer, err); p != nil {
			if m.Opcode == dns.OpcodeUpdate && len(m.Question) > 0 && (answer.Rcode == dns.RcodeNotAuth || answer.Rcode == dns.RcodeNotZone) { // some do not sign that they do not have the zone
				return nil, s.notAuthority(ctx, m.Question[0].Name)
			}
			return nil, p
		}
	}
	if err != nil {
		return nil, s.unanswered(err)
	}
	return answer, nil
}

// unsigned is the problem of an answer that says that the key is wrong, or that nobody has signed.
func (s *server) unsigned(answer *dns.Msg, err error) *cloud.Problem {
	p := &cloud.Problem{Type: "unauthorized", Title: "not allowed in", Status: http.StatusUnauthorized, Fix: "give the connection the name, the algorithm and the text of a key that the server knows"}
	t := answer.IsTsig()
	switch {
	case t != nil && t.Error == dns.RcodeBadKey, answer.Rcode == dns.RcodeNotAuth && t == nil:
		p.Detail = fmt.Sprintf("the server does not know the key %s with %s", s.key, strings.TrimSuffix(s.algorithm, "."))
	case t != nil && t.Error == dns.RcodeBadTime:
		p.Detail, p.Fix = "the clocks of this machine and of the server differ by more than 5 minutes", "set the clocks"
	case t != nil && t.Error == dns.RcodeBadSig, errors.Is(err, dns.ErrSig), errors.Is(err, dns.ErrAuth):
		p.Detail = "the key " + s.key + " is not the one that the server knows by that name"
	case t == nil && err == nil:
		p.Detail = "the server has not signed its answer with the key " + s.key
	default:
		return nil
	}
	return p
}

func (s *server) unanswered(err error) error {
	return &cloud.Problem{Type: "connection", Title: "the name server did not answer", Status: http.StatusBadGateway, Passing: true,
		Detail: "the name server did not answer: " + cloud.Clean(strings.ReplaceAll(err.Error(), s.secret, "(secret)"))}
}

// Answers asks something signed.
func (s *server) Answers(ctx context.Context) error {
	m := new(dns.Msg)
	m.SetQuestion(".", dns.TypeSOA)
	_, err := s.ask(ctx, m)
	return err
}

// set is all records of one kind under one name.
type set struct {
	zone, name string // absolute, in the form in which names are compared
	kind       uint16
	records    []dns.RR
}

func (r set) id() string {
	return "records~" + strings.ReplaceAll(dns.TypeToString[r.kind]+"~"+r.name+"~"+r.zone, "/", "%2F")
}

// parsed is the set that an id stands for.
func parsed(id string) (set, bool) {
	rest, ok := strings.CutPrefix(id, "records~")
	parts := strings.Split(strings.ReplaceAll(rest, "%2F", "/"), "~")
	if !ok || len(parts) != 3 {
		return set{}, false
	}
	kind, known := dns.StringToType[parts[0]]
	return set{zone: parts[2], name: parts[1], kind: kind}, known
}

// zone transfers a zone, and yields its sets.
func (s *server) zone(ctx context.Context, zone string) (map[string]set, error) {
	m := new(dns.Msg)
	m.SetAxfr(zone)
	m.SetTsig(s.key, s.algorithm, fudge, time.Now().Unix())
	d := net.Dialer{Timeout: patience}
	conn, err := d.DialContext(ctx, "tcp", s.address)
	if err != nil {
		return nil, s.unanswered(err)
	}
	defer conn.Close()
	t := &dns.Transfer{Conn: &dns.Conn{Conn: conn}, ReadTimeout: patience, WriteTimeout: patience, TsigSecret: map[string]string{s.key: s.secret}}
	answers, err := t.In(m, s.address)
	if err != nil {
		return nil, s.unanswered(err)
	}
	out := map[string]set{}
	for part := range answers {
		if part.Error != nil {
			go func() { // what is sent still is not wanted any more
				for range answers {
				}
			}()
			return nil, s.notTransferred(ctx, zone, part.Error)
		}
		for _, rr := range part.RR {
			h := rr.Header()
			if h.Rrtype == dns.TypeSOA {
				continue
			}
			one := set{zone: zone, name: dns.CanonicalName(h.Name), kind: h.Rrtype}
			if have, there := out[one.id()]; there {
				one = have
			}
			one.records = append(one.records, rr)
			out[one.id()] = one
		}
	}
	return out, ctx.Err()
}

func (s *server) notTransferred(ctx context.Context, zone string, err error) error {
	text := err.Error()
	var refused *dns.Error
	switch {
	case errors.Is(err, dns.ErrSig), errors.Is(err, dns.ErrAuth), errors.Is(err, dns.ErrNoSig), strings.Contains(text, "bad xfr rcode: 9"):
		return s.notAuthority(ctx, zone)
	case strings.Contains(text, "bad xfr rcode: 5"):
		return &cloud.Problem{Type: "not-permitted", Title: "not allowed", Status: http.StatusForbidden, Fix: "let the server allow transfers and updates of the zone with that key",
			Detail: "the server does not let the zone " + zone + " be transferred with the key " + s.key}
	case strings.Contains(text, "bad xfr rcode"), errors.As(err, &refused):
		return &cloud.Problem{Type: "refused", Title: "no transfer", Status: http.StatusUnprocessableEntity, Detail: "the zone " + zone + " cannot be transferred: " + cloud.Clean(text)}
	}
	return s.unanswered(err)
}

// notAuthority tells a zone that the server does not have from a key that it does not know: with a key that is right it
// answers something else.
func (s *server) notAuthority(ctx context.Context, zone string) error {
	if err := s.Answers(ctx); err != nil {
		return err
	}
	return &cloud.Problem{Type: "no-such-resource", Title: "no such zone", Status: http.StatusUnprocessableEntity, Fix: "give a zone that it is the authority for",
		Detail: "the server is not the authority for the zone " + zone}
}

// Objects lists the records of the zones of which some are known.
func (s *server) Objects(ctx context.Context, known map[string]ways.Known) ([]ways.Object, error) {
	zones := map[string]bool{}
	for _, zone := range s.zones {
		zones[zone] = true
	}
	for id := range known {
		if one, ok := parsed(id); ok {
			zones[one.zone] = true
		}
	}
	var out []ways.Object
	for _, zone := range slices.Sorted(keys(zones)) {
		sets, err := s.zone(ctx, zone)
		if err != nil {
			return nil, err
		}
		for _, id := range slices.Sorted(keys(sets)) {
			out = append(out, object(sets[id], known[id]))
		}
	}
	return out, nil
}

func keys[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// Object reads one set of records.
func (s *server) Object(ctx context.Context, _, id string, known ways.Known) (ways.Object, error) {
	one, err := s.there(ctx, id)
	if err != nil {
		return ways.Object{}, err
	}
	return object(one, known), nil
}

// there reads one set of records.
func (s *server) there(ctx context.Context, id string) (set, error) {
	want, ok := parsed(id)
	if !ok {
		return set{}, cloud.NotFound(id)
	}
	sets, err := s.zone(ctx, want.zone)
	if err != nil {
		return set{}, err
	}
	one, ok := sets[want.id()]
	if !ok {
		return set{}, cloud.NotFound(id)
	}
	return one, nil
}

// object is a set of records as it was asked for, where it is that.
func object(one set, k ways.Known) ways.Object {
	zone, name := strings.TrimSuffix(one.zone, "."), relative(one.name, one.zone)
	for property, is := range map[string]*string{"zone": &zone, "name": &name} {
		asked, _ := k.Properties[property].(string)
		if absolute, err := absolute(asked, one.zone); property == "name" && err == nil && absolute == one.name || property == "zone" && dns.CanonicalName(asked) == one.zone {
			*is = asked
		}
	}
	ttl := any(fmt.Sprintf("%d s", one.records[0].Header().Ttl))
	if d, err := ways.Duration(fmt.Sprint(k.Properties["ttl"])); err == nil && d == time.Duration(one.records[0].Header().Ttl)*time.Second {
		ttl = k.Properties["ttl"]
	}
	return ways.Object{ID: one.id(), Type: Records, Attributes: map[string]any{"full_name": one.name},
		Properties: map[string]any{"zone": zone, "name": name, "kind": dns.TypeToString[one.kind], "ttl": ttl, "values": asAsked(one, k)}}
}

// asAsked are the values of a set: those that were asked for as they were written, the others as the
// server has them.
func asAsked(one set, k ways.Known) []string {
	left := map[string]bool{}
	for _, rr := range one.records {
		left[said(rr)] = true
	}
	var out []string
	asked, _ := k.Properties["values"].([]any)
	for _, v := range asked {
		rr, err := record(one, fmt.Sprint(v), 0)
		if err == nil && left[said(rr)] {
			out = append(out, fmt.Sprint(v))
			delete(left, said(rr))
		}
	}
	for _, rr := range one.records {
		if left[said(rr)] {
			out = append(out, plainly(rr))
		}
	}
	if len(out) > len(asked) { // those that were not asked for come in an order of their own
		slices.Sort(out[len(out)-len(left):])
	}
	return out
}

// said is what a record says, in the form in which records are compared.
func said(rr dns.RR) string {
	text := strings.TrimPrefix(rr.String(), rr.Header().String())
	if slices.Contains([]uint16{dns.TypeTXT, dns.TypeCAA, dns.TypeNAPTR}, rr.Header().Rrtype) {
		return text
	}
	return strings.ToLower(text)
}

// plainly is what a record says as one writes it: a text without quotation marks.
func plainly(rr dns.RR) string {
	if t, ok := rr.(*dns.TXT); ok && len(t.Txt) == 1 && !strings.ContainsAny(t.Txt[0], `"\`) && t.Txt[0] != "" {
		return t.Txt[0]
	}
	return strings.TrimPrefix(rr.String(), rr.Header().String())
}

// relative is a name as one writes it in its zone.
func relative(name, zone string) string {
	if name == zone {
		return "@"
	}
	return strings.TrimSuffix(name, "."+zone)
}

// absolute is a name in a zone with all its parts.
func absolute(name, zone string) (string, error) {
	full := name
	switch {
	case name == "@" || name == "":
		full = zone
	case !strings.HasSuffix(name, "."):
		full = name + "." + strings.TrimPrefix(zone, ".")
	}
	if _, ok := dns.IsDomainName(full); !ok || strings.ContainsFunc(full, func(r rune) bool {
		return r <= ' ' || r > '~' || r == ';' || r == '(' || r == ')' || r == '"' || r == '~'
	}) {
		return "", &cloud.Problem{Type: "bad-property", Title: "no name", Status: http.StatusUnprocessableEntity, Detail: "'" + cloud.Clean(name) + "' is no name", Fix: "use letters, digits, - and _; other letters as xn--…"}
	}
	full = dns.CanonicalName(full)
	if !dns.IsSubDomain(zone, full) {
		return "", &cloud.Problem{Type: "bad-property", Title: "not in the zone", Status: http.StatusUnprocessableEntity, Detail: full + " is not in the zone " + zone, Fix: "write the name without a dot at its end"}
	}
	return full, nil
}

// record reads a value, as a zone file has it behind the kind.
func record(one set, value string, ttl uint32) (dns.RR, error) {
	bad := func(why string) error {
		return &cloud.Problem{Type: "bad-property", Title: "no such value", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("'%s' is no value of the kind %s: %s", cloud.Clean(value), dns.TypeToString[one.kind], why), Fix: "write it as a zone file has it behind the kind"}
	}
	header := dns.RR_Header{Name: one.name, Rrtype: one.kind, Class: dns.ClassINET, Ttl: ttl}
	if one.kind == dns.TypeTXT && !strings.HasPrefix(value, `"`) {
		return &dns.TXT{Hdr: header, Txt: chunks(value)}, nil
	}
	if strings.ContainsAny(value, "\n\r\x00") {
		return nil, bad("it has more than one line")
	}
	z := dns.NewZoneParser(strings.NewReader(fmt.Sprintf("%s %d IN %s %s\n", one.name, ttl, dns.TypeToString[one.kind], value)), one.zone, "")
	rr, ok := z.Next()
	if err := z.Err(); err != nil || !ok {
		return nil, bad(strings.TrimPrefix(fmt.Sprint(err), "dns: "))
	}
	if _, more := z.Next(); more || rr.Header().Rrtype != one.kind || dns.CanonicalName(rr.Header().Name) != one.name {
		return nil, bad("it is more than one value")
	}
	return rr, nil
}

// chunks are the parts of a text of at most 255 bytes each, with what means something escaped.
func chunks(text string) []string {
	var out []string
	for len(text) > 255 {
		out, text = append(out, escaped(text[:255])), text[255:]
	}
	return append(out, escaped(text))
}

func escaped(s string) string {
	var b strings.Builder
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c > '~':
			fmt.Fprintf(&b, "\\%03d", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
