// Package drift tells what became of a path since it was placed: whether it is still as it
// was left, and if not, in which of a few ways it is not.
//
//	kind := drift.Tell(placed, earlier, now, beside)
package drift

import (
	"slices"
	"strings"
)

// Copy is how a path stands, by what tells two copies apart.
type Copy struct {
	// Kind is file, link, made (by the host, so that its content is not known here) or none.
	Kind string
	// Content names what a file holds, or a link says, without telling it.
	Content            string
	Mode, Owner, Group string // of a file
}

// Parse reads what String writes; what it is not is of kind none.
func Parse(text string) Copy {
	parts := strings.Split(text, ":")
	switch {
	case len(parts) == 5 && parts[0] == "file":
		return Copy{"file", parts[1], parts[2], parts[3], parts[4]}
	case len(parts) == 4 && parts[0] == "made":
		return Copy{"made", "", parts[1], parts[2], parts[3]}
	case len(parts) == 2 && parts[0] == "link":
		return Copy{Kind: "link", Content: parts[1]}
	}
	return Copy{Kind: "none"}
}

// String says in one word how the path stands, as host scripts do.
func (c Copy) String() string {
	meta := ":" + c.Mode + ":" + c.Owner + ":" + c.Group
	switch c.Kind {
	case "file":
		return "file:" + c.Content + meta
	case "made":
		return "made" + meta
	case "link":
		return "link:" + c.Content
	}
	return "none"
}

// Kind is what became of a path.
type Kind string

// The kinds. A path is as placed, or it drifted in one of the other ways.
const (
	AsPlaced Kind = "as-placed"
	Edited   Kind = "edited"      // somebody changed what it holds
	Back     Kind = "edited-back" // it holds again what it held before
	Replaced Kind = "replaced"    // a package put its own there, and ours aside
	Gone     Kind = "gone"
	Rights   Kind = "rights"   // what it holds is the same; its owner, group or mode is not
	Appeared Kind = "appeared" // it was deleted by our hand, and is there again
)

// Kinds lists all of them.
var Kinds = []Kind{AsPlaced, Edited, Back, Replaced, Gone, Rights, Appeared}

// Aside are the endings under which packages keep what they replace: of dpkg(1), ucf(1),
// rpm(8) and pacman(8).
var Aside = []string{".dpkg-old", ".ucf-old", ".rpmsave", ".pacsave"}

// Tell says what became of a path: placed is how it was left, earlier how it stood at times
// before that, now how it stands, and beside are the contents of what packages put aside.
func Tell(placed Copy, earlier []Copy, now Copy, beside []string) Kind {
	same := placed
	if placed.Kind == "made" && now.Kind == "file" { // what it holds is the host's own
		same.Kind, same.Content = "file", now.Content
	}
	switch {
	case now == same:
		return AsPlaced
	case placed.Kind == "none":
		return Appeared
	case now.Kind == "none":
		return Gone
	case now.Kind == same.Kind && now.Content == same.Content:
		return Rights
	case placed.Content != "" && slices.Contains(beside, placed.Content):
		return Replaced
	case slices.ContainsFunc(earlier, func(e Copy) bool { return e.Kind == now.Kind && e.Content == now.Content }):
		return Back
	}
	return Edited
}

// Words says a kind in a sentence about a path.
func (k Kind) Words() string {
	switch k {
	case AsPlaced:
		return "is as it was placed"
	case Edited:
		return "was edited since"
	case Back:
		return "holds again what it held before"
	case Replaced:
		return "was replaced by a package, which put ours aside"
	case Gone:
		return "is gone"
	case Rights:
		return "has another owner, group or mode"
	case Appeared:
		return "was deleted, and is there again"
	}
	return string(k)
}
