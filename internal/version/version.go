// Package version says which build this is.
package version

import "runtime/debug"

// given is that of a package: scripts/make-packages.sh says it to the linker.
var given string

// String is the version of the package or the module, or the commit it was built from.
func String() string {
	if given != "" {
		return given
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	if v := info.Main.Version; v != "" && v != "(devel)" {
		return v
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value[:min(12, len(s.Value))]
		}
	}
	return "devel"
}
