package stack

import (
	"path"
	"strings"
)

// Means reports whether a pattern means a resource: by its name, in which * stands for any
// letters, or by that of its node, which means all its instances and all that fills it.
func Means(pattern, resource string) bool {
	if node, _, _ := strings.Cut(resource, "#"); pattern == node && pattern != "" || strings.HasPrefix(resource, pattern+"/") {
		return true
	}
	// A slash is a letter like any other here.
	ok, err := path.Match(strings.ReplaceAll(pattern, "/", "\x00"), strings.ReplaceAll(resource, "/", "\x00"))
	return err == nil && ok
}

// FilledNode is the node that a resource fills together with others: the one of the template
// itself, with its instance; "" is that it stands for itself.
func FilledNode(resource string) string {
	node, _, inner := strings.Cut(resource, "/")
	if !inner {
		return ""
	}
	return node
}
