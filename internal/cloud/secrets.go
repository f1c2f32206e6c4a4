package cloud

import (
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/tosca"
)

// SetProperty puts a property into the request, and says which of its parts are
// secret.
func (r *Request) SetProperty(name string, v tosca.Value) {
	if r.Properties == nil {
		r.Properties = map[string]any{}
	}
	if v == nil || tosca.Equal(v, tosca.Null{}) {
		r.Properties[name] = nil
		return
	}
	r.Properties[name] = tosca.Reveal(v)
	r.secret(tosca.Pointer("properties", name), v)
}

// SetTag puts a tag into the request.
func (r *Request) SetTag(name string, v tosca.Value) {
	if r.Tags == nil {
		r.Tags = map[string]string{}
	}
	bare, _ := tosca.Bare(v)
	r.Tags[name] = tosca.Show(bare)
	r.secret(tosca.Pointer("tags", name), v)
}

// SetTags puts a whole property of tags into the request. Where it is secret as
// a whole, so are the names of the tags.
func (r *Request) SetTags(v tosca.Value) {
	if s, whole := v.(tosca.Secret); whole {
		r.secret("/tags", v)
		v = s.Value
	}
	tags, _ := v.(tosca.Map)
	for k, e := range tags {
		r.SetTag(tosca.KeyText(k), e)
	}
}

func (r *Request) secret(at string, v tosca.Value) {
	r.Secrets = append(r.Secrets, SecretPlaces(at, v)...)
	slices.Sort(r.Secrets)
}

// SecretPlaces lists where the secrets of a value are, as JSON Pointers (RFC
// 6901) that begin with at.
func SecretPlaces(at string, v tosca.Value) []string {
	var out []string
	switch v := v.(type) {
	case tosca.Secret:
		return []string{at}
	case tosca.List:
		for i, e := range v {
			out = append(out, SecretPlaces(at+"/"+strconv.Itoa(i), e)...)
		}
	case tosca.Map:
		for _, k := range v.Keys() {
			out = append(out, SecretPlaces(at+tosca.Pointer(tosca.KeyText(k)), v[k])...)
		}
	}
	return out
}

// HideAt marks the parts of a value as secret that stand at places below at.
func HideAt(v tosca.Value, at string, places []string) tosca.Value {
	if v == nil || !slices.ContainsFunc(places, func(p string) bool { return Below(p, at) }) {
		return v
	}
	if slices.Contains(places, at) {
		return tosca.Hide(v)
	}
	switch w := v.(type) {
	case tosca.List:
		out := make(tosca.List, len(w))
		for i, e := range w {
			out[i] = HideAt(e, at+"/"+strconv.Itoa(i), places)
		}
		return out
	case tosca.Map:
		out := make(tosca.Map, len(w))
		for k, e := range w {
			out[k] = HideAt(e, at+tosca.Pointer(tosca.KeyText(k)), places)
		}
		return out
	}
	return v
}

// Below reports whether a JSON Pointer is at, or leads to a part of it.
func Below(pointer, at string) bool {
	return pointer == at || strings.HasPrefix(pointer, at+"/")
}
