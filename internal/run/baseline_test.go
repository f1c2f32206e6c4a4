package run

import (
	"encoding/json"
	"slices"
	"testing"
)

func TestDifferences(t *testing.T) {
	db := Was{Name: "db", Type: "Database", Properties: map[string]any{"size": "small", "allow": []any{}},
		Tags: map[string]string{"desk": "snow"}, Links: map[string][]string{"subnet": {"s~1"}}}
	same := db
	same.Properties, same.Attributes = map[string]any{"size": "small", "label": nil}, map[string]any{}
	larger := db
	larger.Properties, larger.Tags, larger.Links = map[string]any{"size": "large",
		"allow": []any{map[string]any{"port": 22}}}, nil, map[string][]string{"subnet": {"s~2"}}
	var digest Was
	if err := json.Unmarshal([]byte(`"0a1b"`), &digest); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name    string
		was, is map[string]Was
		want    []string
	}{
		{"nothing at all", nil, nil, nil},
		{"what is empty is what is not set", map[string]Was{"d~1": db}, map[string]Was{"d~1": same}, nil},
		{"a digest of an earlier version", map[string]Was{"d~1": digest}, map[string]Was{"d~1": db}, nil},
		{"gone", map[string]Was{"d~1": db}, nil, []string{"db (d~1) is gone"}},
		{"new", nil, map[string]Was{"d~1": db}, []string{"db (d~1) is there, and was not"}},
		{"changed", map[string]Was{"d~1": db}, map[string]Was{"d~1": larger},
			[]string{"allow of db is [{port:22}], was not set", "size of db is large, was small",
				"subnet of db is [s~2], was [s~1]", "tag desk of db is not set, was snow"}},
	} {
		if got := Differences(test.was, test.is); !slices.Equal(got, test.want) {
			t.Errorf("%s: %q, want %q", test.name, got, test.want)
		}
	}
}
