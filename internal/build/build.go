// Package build says which build of Reshard this is.
package build

import (
	"runtime/debug"

	"golang.org/x/mod/semver"
)

// Version is the version of this build, as CHANGELOG.md counts them.
const Version = "0.1.0"

// Name gives the version, and the revision that it was built from when that is known.
func Name() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return Version
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 8 {
			return Version + " (" + s.Value[:8] + ")"
		}
	}
	return Version
}

// Older reports whether version a comes before version b.
func Older(a, b string) bool { return semver.Compare("v"+a, "v"+b) < 0 }
