package yard

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/seal"
	"brickrow/internal/tosca"
)

// sealMark begins a text that is encrypted.
const sealMark = "sealed:"

// sealing is what the yard keeps what may hold secrets with.
func (y *Yard) sealing() (*seal.Box, error) { return seal.New(y.mac("seal")[:32]) }

// seal encrypts anything that can be written as JSON.
func (y *Yard) seal(x any) (string, error) {
	box, err := y.sealing()
	if err != nil {
		return "", err
	}
	sealed, err := box.Seal([]byte(encode(x)))
	return sealMark + base64.StdEncoding.EncodeToString(sealed), err
}

// unseal is the reverse of seal. What an earlier version wrote in clear is read
// as it is.
func (y *Yard) unseal(text string, out any) error {
	coded, sealed := strings.CutPrefix(text, sealMark)
	if !sealed {
		return decode(text, out)
	}
	b, err := base64.StdEncoding.DecodeString(coded)
	if err != nil {
		return err
	}
	box, err := y.sealing()
	if err != nil {
		return err
	}
	clear, err := box.Unseal(b)
	if err != nil {
		return fmt.Errorf("the key of the yard does not fit: %w", err)
	}
	return decode(string(clear), out)
}

// hidden is what is secret of a resource: properties and tags at some places,
// and whole attributes.
type hidden struct {
	Properties map[string]any    `json:"properties,omitempty"`
	Tags       map[string]string `json:"tags,omitempty"`
	Attributes map[string]any    `json:"attributes,omitempty"`
	Places     []string          `json:"places,omitempty"` // JSON Pointers
}

// columns are what is written of an outcome: properties, attributes and tags
// as they may be seen, and what is secret of them.
func (y *Yard) columns(out outcome) (properties, attributes, tags, sealed string, err error) {
	h := hidden{Properties: map[string]any{}, Tags: map[string]string{}, Attributes: map[string]any{},
		Places: out.Places}
	seenProperties, seenTags, seenAttributes := map[string]any{}, map[string]string{}, map[string]any{}
	for k, v := range out.Properties {
		value := cloud.HideAt(tosca.FromJSON(plain(v)), tosca.Pointer("properties", k), out.Places)
		seenProperties[k] = tosca.Reveal(y.fingerprint(value))
		if tosca.HasSecret(value) {
			h.Properties[k] = v
		}
	}
	for k, v := range out.Tags {
		value := hideTag(k, v, out.Places)
		name := k
		if secretNames(k, out.Places) {
			name = tosca.Show(y.fingerprint(tosca.Hide(tosca.String(k))))
		}
		seenTags[name] = tosca.Show(y.fingerprint(value))
		if tosca.HasSecret(value) {
			h.Tags[k] = v
		}
	}
	for k, v := range out.Attributes {
		if seenAttributes[k] = v; out.secretAttribute(k) {
			seenAttributes[k], h.Attributes[k] = tosca.SecretText, v
		}
	}
	if len(h.Properties)+len(h.Tags)+len(h.Attributes) > 0 {
		if sealed, err = y.seal(h); err != nil {
			return "", "", "", "", err
		}
	}
	return encode(seenProperties), encode(seenAttributes), encode(seenTags), sealed, nil
}

// secretNames reports whether the name of a tag is secret, as all tags are.
func secretNames(tag string, places []string) bool {
	return slices.Contains(places, "/tags") && tag != "stack" && tag != "node"
}

func hideTag(name, v string, places []string) tosca.Value {
	if secretNames(name, places) {
		return tosca.Hide(tosca.String(v))
	}
	return cloud.HideAt(tosca.String(v), tosca.Pointer("tags", name), places)
}

// plain is a value as encoding/json decodes it.
func plain(v any) any {
	var out any
	if decode(encode(v), &out) != nil {
		return nil
	}
	return out
}

// fingerprint puts what shows that a secret is set, without showing it, in the
// place of every secret.
func (y *Yard) fingerprint(v tosca.Value) tosca.Value {
	return tosca.ReplaceSecrets(v, func(s tosca.Secret) tosca.Value {
		return tosca.String("fingerprint:" + y.sign("secret/" + tosca.Show(s.Value))[:24])
	})
}

// reveal fills in what is secret of a row that was read.
func (r *row) reveal(y *Yard, sealed string) error {
	r.shown, r.shownTags = r.properties, r.tags
	if sealed == "" {
		return nil
	}
	var h hidden
	if err := y.unseal(sealed, &h); err != nil {
		return err
	}
	properties, tags := map[string]any{}, map[string]string{}
	for k, v := range r.properties {
		properties[k] = v
	}
	for k, v := range r.tags {
		if !secretNames(k, h.Places) {
			tags[k] = v
		}
	}
	for k, v := range h.Properties {
		properties[k] = v
	}
	for k, v := range h.Tags {
		tags[k] = v
	}
	for k, v := range h.Attributes {
		r.attributes[k] = v
		r.secretAttributes = append(r.secretAttributes, k)
	}
	r.properties, r.tags, r.places = properties, tags, h.Places
	return nil
}

// hiddenValues are the secrets of the resource.
func (r *row) hiddenValues() []tosca.Value {
	var out []tosca.Value
	for k, v := range r.properties {
		out = append(out, cloud.HideAt(tosca.FromJSON(v), tosca.Pointer("properties", k), r.places))
	}
	for k, v := range r.tags {
		if out = append(out, hideTag(k, v, r.places)); secretNames(k, r.places) {
			out = append(out, tosca.Hide(tosca.String(k)))
		}
	}
	for _, k := range r.secretAttributes {
		out = append(out, tosca.Hide(tosca.FromJSON(r.attributes[k])))
	}
	return out
}
