package store

import (
	"encoding/json"
	"fmt"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// PackRevision makes a text of a revision with all it holds, its secrets in clear:
// it is for sealing, and for nothing else.
func PackRevision(r stack.Revision) ([]byte, error) {
	inputs := make(tosca.List, len(r.Inputs))
	for i, in := range r.Inputs {
		places := tosca.List{} // of the secrets, as all is sealed
		for _, p := range cloud.SecretPlaces("", in.Value) {
			places = append(places, tosca.String(p))
		}
		bare, _ := tosca.Bare(in.Value)
		inputs[i] = tosca.Map{"name": tosca.String(in.Name), "value": bare, "secrets": places,
			"kind": tosca.String(in.Origin.Kind), "via": tosca.String(in.Origin.Via),
			"file": tosca.String(in.Origin.Pos.File), "line": tosca.Int(in.Origin.Pos.Line)}
	}
	tags := tosca.Map{}
	for k, v := range r.Tags {
		tags[k] = tosca.String(v)
	}
	return json.Marshal(tosca.Stored(tosca.Map{"revision": pack(&r), "template": tosca.String(r.Template),
		"inputs": inputs, "tags": tags, "origin": tosca.String(r.Origin)}))
}

// UnpackRevision is the reverse of PackRevision.
func UnpackRevision(text []byte) (*stack.Revision, error) {
	var raw any
	if err := decode(string(text), &raw); err != nil {
		return nil, err
	}
	m, ok := tosca.FromJSON(raw).(tosca.Map)
	if !ok || m["revision"] == nil {
		return nil, fmt.Errorf("what is packed is no revision")
	}
	r := &stack.Revision{Template: tosca.Show(m["template"]), Tags: map[string]string{}}
	if origin, ok := m["origin"].(tosca.String); ok {
		r.Origin = string(origin)
	}
	if err := unpack(r, m["revision"]); err != nil {
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
		r.Inputs = append(r.Inputs, stack.Input{Name: tosca.Show(in["name"]),
			Value: cloud.HideAt(in["value"], "", places),
			Origin: stack.Origin{Kind: stack.OriginKind(tosca.Show(in["kind"])), Via: tosca.Show(in["via"]),
				Pos: tosca.Pos{File: tosca.Show(in["file"]), Line: int(line)}}})
	}
	return r, nil
}
