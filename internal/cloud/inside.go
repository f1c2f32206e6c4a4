package cloud

import (
	"slices"
	"strings"
)

// What is inside something with an interface of its own, such as a cluster, has an id that begins
// with the id of that, and a slash. So has what is reached through a connection.

// StandInDomain is the domain of the names that the stand-in gives to its resources. They are
// resolved by the stand-in alone.
const StandInDomain = "yard.example"

// Inside is the id of what a resource is inside of, as its own id says; "" where it is inside nothing.
func Inside(id string) string {
	if i := strings.LastIndexByte(id, '/'); i > 0 {
		return id[:i]
	}
	return ""
}

// ClusterOf is the id of the cluster that a request is for, as its links say; "" where it is for none.
func ClusterOf(r Request) string {
	if of := r.Links["cluster"]; len(of) > 0 {
		return of[0]
	}
	for _, ids := range r.Links {
		if i := slices.IndexFunc(ids, func(id string) bool { return Inside(id) != "" }); i >= 0 {
			return Inside(ids[i])
		}
	}
	return ""
}
