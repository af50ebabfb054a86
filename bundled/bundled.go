// Package bundled holds definitions of services that many hosts carry, ready to be
// taken: a team says which hosts carry them, fills in probes, and has them approved as
// its own.
//
//	for _, name := range bundled.Names() {
//		source, _ := bundled.Source(name)
//		os.Stdout.Write(source)
//	}
package bundled

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed *.yaml
var files embed.FS

// Names lists the definitions, in alphabetical order.
func Names() (names []string) {
	all, err := fs.Glob(files, "*.yaml")
	if err != nil {
		panic(err) // the pattern is well-formed
	}
	for _, name := range all {
		names = append(names, strings.TrimSuffix(name, ".yaml"))
	}
	return names
}

// Source gives the YAML of a definition; ok is false where there is none of that name.
func Source(name string) (source []byte, ok bool) {
	source, err := files.ReadFile(name + ".yaml")
	return source, err == nil
}
