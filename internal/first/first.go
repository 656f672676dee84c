// Package first answers `tressik version` before the rest of the program is set up.
//
// Every package that is linked in sets itself up when the program starts; the expression language and the database alone
// take several times as long as an empty program. Go sets packages up in the order of their import paths as soon as what
// they import is ready (Go specification, "Program initialization"), and this package imports os alone, so its turn comes
// before theirs. It is the one place in the program that uses init.
package first

import (
	"os"
	"runtime"
)

// Version and Commit are set by the linker; with an empty Commit the version command looks for it in the build's own
// record, which is not at hand this early.
var (
	Version = "0.1.0"
	Commit  = ""
)

// Line is what `tressik version` prints.
func Line(version, commit, goVersion string) string {
	return "tressik " + version + ", commit " + commit + ", " + goVersion + "\n"
}

func init() {
	if Commit == "" || len(os.Args) != 2 || os.Args[1] != "version" {
		return
	}
	if _, err := os.Stdout.WriteString(Line(Version, Commit, runtime.Version())); err != nil {
		os.Stderr.WriteString("tressik: " + err.Error() + "\n")
		os.Exit(1)
	}
	os.Exit(0)
}
