package cli

import (
	"runtime/debug"
	"time"
)

// version is set when a package is made; it follows from the commit.
var version string

// Version is the version of this program: that of the package, or of the commit that it was built from.
func Version() string {
	if version != "" {
		return version
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	var hash, at, changed string
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			hash = s.Value[:min(10, len(s.Value))]
		case "vcs.time":
			if t, err := time.Parse(time.RFC3339, s.Value); err == nil {
				at = t.UTC().Format("20060102") + "."
			}
		case "vcs.modified":
			if s.Value == "true" {
				changed = " with changes"
			}
		}
	}
	if hash == "" {
		return "unknown"
	}
	return "0." + at + hash + changed
}
