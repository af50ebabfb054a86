package plan

// Kind is what stands at a path.
type Kind string

// The kinds. A made file comes about on the host, by a command; what it holds
// is not known here.
const (
	Absent  Kind = "absent"
	Regular Kind = "file"
	Symlink Kind = "link"
	Made    Kind = "made"
)

// Copy is how a path stands, or is to stand.
type Copy struct {
	Kind    Kind
	Content []byte // of a file
	Sum     string // in place of Content: SHA-256 in hex, of a file whose content never leaves its host
	// Covered tells that words stand in Content for secrets that the host keeps: Sum is that
	// of the file itself. A made file with Content is that, with its secrets filled in.
	Covered      bool
	Owner, Group string // of a file, made or not
	Mode         string // octal
	Target       string // of a link, as it reads
}

// Closed tells that the content of a file is not known here.
func (c Copy) Closed() bool { return c.Sum != "" && !c.Covered }

// Same tells whether nothing differs between two copies.
func (c Copy) Same(d Copy) bool {
	return c.Kind == d.Kind && string(c.Content) == string(d.Content) && c.Sum == d.Sum && c.Owner == d.Owner && c.Group == d.Group && c.Mode == d.Mode && c.Target == d.Target
}

// Link is a symbolic link on the way to a file.
type Link struct {
	Path   string `json:"path"`
	Target string `json:"target"`
}
