package store

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Sign yields a keyed digest of data, by which this store knows again what it
// has signed. The key is that of the secrets.
func (s *Store) Sign(data []byte) string {
	key := sha256.Sum256([]byte("signing " + s.key.String()))
	m := hmac.New(sha256.New, key[:])
	m.Write(data)
	return hex.EncodeToString(m.Sum(nil))
}

// SealRevision makes a text of a revision that only this store can read.
func (s *Store) SealRevision(r Revision) (string, error) {
	inputs := make(tosca.List, len(r.Inputs))
	for i, in := range r.Inputs {
		places := tosca.List{} // of the secrets, as all is sealed
		for _, p := range cloud.SecretPlaces("", in.Value) {
			places = append(places, tosca.String(p))
		}
		bare, _ := tosca.Bare(in.Value)
		inputs[i] = tosca.Map{"name": tosca.String(in.Name), "value": bare, "secrets": places, "kind": tosca.String(in.Origin.Kind), "via": tosca.String(in.Origin.Via), "file": tosca.String(in.Origin.Pos.File), "line": tosca.Int(in.Origin.Pos.Line)}
	}
	tags := tosca.Map{}
	for k, v := range r.Tags {
		tags[k] = tosca.String(v)
	}
	sealed, err := s.seal(tosca.Secret{Value: tosca.Map{"revision": r.pack(), "template": tosca.String(r.Template), "inputs": inputs, "tags": tags}})
	if err != nil {
		return "", err
	}
	return encode(sealed)
}

// OpenRevision is the reverse of SealRevision.
func (s *Store) OpenRevision(text string) (*Revision, error) {
	var raw any
	if err := decode(text, &raw); err != nil {
		return nil, err
	}
	opened, err := s.open(raw)
	if err != nil {
		return nil, err
	}
	bare, secret := tosca.Bare(opened)
	m, ok := bare.(tosca.Map)
	if !ok || !secret || m["revision"] == nil {
		return nil, fmt.Errorf("what is sealed is no revision")
	}
	r := &Revision{Template: tosca.Show(m["template"]), Tags: map[string]string{}}
	if err := r.unpack(m["revision"]); err != nil {
		return nil, err
	}
	tags, _ := m["tags"].(tosca.Map)
	for k, v := range tags {
		r.Tags[k] = tosca.Show(v)
	}
	inputs, _ := m["inputs"].(tosca.List)
	for _, e := range inputs {
		in, _ := e.(tosca.Map)
		line, _ := in["line"].(tosca.Int)
		var places []string
		list, _ := in["secrets"].(tosca.List)
		for _, p := range list {
			places = append(places, tosca.Show(p))
		}
		r.Inputs = append(r.Inputs, stack.Input{Name: tosca.Show(in["name"]), Value: cloud.HideAt(in["value"], "", places),
			Origin: stack.Origin{Kind: tosca.Show(in["kind"]), Via: tosca.Show(in["via"]), Pos: tosca.Pos{File: tosca.Show(in["file"]), Line: int(line)}}})
	}
	return r, nil
}
