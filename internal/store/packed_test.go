package store

import (
	"reflect"
	"testing"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// TestRevisionsKeepTheirFiles stores a template of several files with what its
// look-ups found, and reads it back; sealed in a text too.
func TestRevisionsKeepTheirFiles(t *testing.T) { onBoth(t, testRevisionsKeepTheirFiles) }

func testRevisionsKeepTheirFiles(t *testing.T, open opener) {
	if testing.Short() {
		t.Skip("nothing goes on at once in it")
	}
	dir := t.TempDir()
	s := open(t, dir)
	st := ensure(t, s, "ridge")
	rev := stack.Revision{Template: "/work/ridge.yaml", Text: "a: \"quoted\"\n", Entry: "defs/ridge.yaml",
		Tags: map[string]string{"desk": "snow"}, By: "keeper",
		Files: map[string][]byte{"types/post.yaml": []byte("b: c\n"), "picture.bin": {0, 255, 1, 254}},
		Found: map[string]stack.Found{"net": {Type: "Network", ID: "network~1",
			Properties: map[string]tosca.Value{"cidr": tosca.String("10.0.0.0/16")},
			Attributes: map[string]tosca.Value{"id": tosca.String("network~1")}}},
		Inputs: []stack.Input{
			{Name: "n", Value: tosca.Int(3), Origin: stack.Origin{Kind: "flag", Via: "n=3"}},
			{Name: "pw", Value: tosca.Hide(tosca.String("frost-and-thaw")),
				Origin: stack.Origin{Kind: "stack file", Pos: tosca.Pos{File: "x.yaml", Line: 4}}},
		}}
	number := addRev(t, s, st, rev)
	stored, err := s.Revision(t.Context(), st.ID, number)
	if err != nil {
		t.Fatal(err)
	}
	packed, err := PackRevision(rev)
	if err != nil {
		t.Fatal(err)
	}
	unpacked, err := UnpackRevision(packed)
	if err != nil {
		t.Fatal(err)
	}
	for what, got := range map[string]*stack.Revision{"stored": stored, "packed": unpacked} {
		if got.Text != rev.Text || got.Entry != rev.Entry || got.Template != rev.Template ||
			!reflect.DeepEqual(got.Files, rev.Files) || !reflect.DeepEqual(got.Found, rev.Found) ||
			!reflect.DeepEqual(got.Tags, rev.Tags) {
			t.Errorf("%s: %+v", what, got)
		}
		if len(got.Inputs) != 2 || !tosca.Equal(got.Inputs[0].Value, tosca.Int(3)) ||
			!tosca.Equal(got.Inputs[1].Value, tosca.String("frost-and-thaw")) || got.Inputs[1].Origin.Pos.Line != 4 ||
			got.Inputs[0].Origin.Via != "n=3" {
			t.Errorf("%s: inputs %+v", what, got.Inputs)
		}
	}
	if !tosca.HasSecret(stored.Inputs[1].Value) || !tosca.HasSecret(unpacked.Inputs[1].Value) {
		t.Error("the secret input is not marked as one")
	}
	for _, bad := range []string{"", "{}", `"x"`, string(packed[:len(packed)/2])} {
		if _, err := UnpackRevision([]byte(bad)); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}
