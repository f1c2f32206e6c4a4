package stack

import (
	"reflect"
	"testing"
)

// What rests on a resource that was renamed is recorded under its former name; read again, it
// rests on the name that it has now, also where two have changed their names with each other.
func TestFollowNames(t *testing.T) {
	low := &Recorded{Name: "low", ID: "s1", Formerly: []string{"first", "sub"}}
	a := &Recorded{Name: "a", ID: "n1", Formerly: []string{"b"}}
	b := &Recorded{Name: "b", ID: "n2", Formerly: []string{"a"}}
	post := &Recorded{Name: "post", ID: "p1", Needs: []string{"b", "sub", "other"}, Links: map[string][]LinkTo{
		"subnet": {{"sub", "s1"}}, "net": {{"b", "n1"}}}}
	by := &Recorded{Name: "by", ID: "p2", Needs: []string{"first"}} // by an attribute
	list := []*Recorded{low, a, b, post, by}
	FollowNames(list)
	want := map[string][]string{"post": {"a", "low", "other"}, "by": {"low"}}
	for _, r := range list {
		if w := want[r.Name]; w != nil && !reflect.DeepEqual(r.Needs, w) {
			t.Errorf("%s needs %v, want %v", r.Name, r.Needs, w)
		}
	}
	if got := post.Links; !reflect.DeepEqual(got, map[string][]LinkTo{"subnet": {{"low", "s1"}}, "net": {{"a", "n1"}}}) {
		t.Errorf("linked to %v", got)
	}
}
