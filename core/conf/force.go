package conf

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Force tells whether a setting is the one that counts.
type Force string

// What can be said of a setting. Unknown is said where the files at hand do not
// decide; it is never guessed.
const (
	Won     Force = "won"
	Lost    Force = "lost"
	Unknown Force = "unknown"
)

// Files are the files that a service reads on one host: main files, what they
// include, drop-ins. Their names are their paths there, or those of copies that
// stand to each other as the originals do.
type Files struct {
	Documents []*Document
	// Known tells that all files which a pattern means on the host are among
	// Documents; nil stands for a pattern without wildcards that has its file. A guessed
	// pattern is where a copy of them would be, if there is one.
	Known func(pattern string, guessed bool) bool
}

// inclusion is what an entry brings in: files, or all of a directory's that end
// in one of some suffixes.
type inclusion struct {
	patterns []string
	sections bool // what is brought in begins at the file's own scope
}

// including names the entries whose words are files to read in their place.
func including(names ...string) func(*Document, *node) *inclusion {
	return func(d *Document, n *node) *inclusion {
		name := d.canonical(d.nameOf(n))
		if !slices.Contains(names, name) {
			return nil
		}
		words := d.words(n)
		if d.split == nil && len(words) == 1 { // a text: one path
			words = []word{{text: strings.Trim(words[0].text, `"'<>`)}}
		}
		in := &inclusion{sections: d.lines != nil && d.lines.scope == brackets}
		for _, w := range words {
			switch name {
			case "include_dir", "confdir":
				in.patterns = append(in.patterns, path.Join(w.text, "*.conf"))
			case "sourcedir":
				in.patterns = append(in.patterns, path.Join(w.text, "*.sources"))
			default:
				in.patterns = append(in.patterns, w.text)
			}
		}
		return in
	}
}

// bangIncluding names the directives with "!" that include a file, and a
// directory or what need not be there.
func bangIncluding(file, other string) func(*Document, *node) *inclusion {
	return func(d *Document, n *node) *inclusion {
		value := strings.TrimSpace(d.text(n.value))
		switch d.nameOf(n) {
		case file:
		case other:
			if d.Format == MySQL {
				value = path.Join(value, "*.cnf")
			}
		default:
			return nil
		}
		return &inclusion{patterns: []string{value}, sections: d.Format == MySQL}
	}
}

// Includes lists the patterns of the files that a document brings in, relative
// ones joined to the directory of the file that the service reads first.
func (d *Document) Includes(main string) []string {
	var all []string
	for i := range d.nodes {
		if n := &d.nodes[i]; d.include != nil && n.kind == entry && !n.commented && i > 0 {
			if in := d.include(d, n); in != nil {
				for _, p := range in.patterns {
					all = append(all, d.absolute(p, main))
				}
			}
		}
	}
	return all
}

// Companions lists patterns of the files that are read together with a file
// without any of them saying so: a unit's drop-ins (systemd.unit(5)), the
// directories of sysctl.d(5).
func Companions(file string, format Format) []string {
	dir, base := path.Dir(file), path.Base(file)
	switch format {
	case Systemd:
		unit := base
		if strings.HasSuffix(dir, ".d") { // itself a drop-in
			unit, dir = strings.TrimSuffix(path.Base(dir), ".d"), path.Dir(dir)
		}
		var all []string
		for _, at := range []string{"/etc/systemd", "/run/systemd", "/usr/lib/systemd", "/lib/systemd"} {
			if strings.Contains(dir, "/system") && path.Base(dir) == "system" {
				at += "/system"
			}
			all = append(all, path.Join(at, unit), path.Join(at, unit+".d", "*.conf"))
		}
		return all
	case Sysctl:
		return []string{"/etc/sysctl.d/*.conf", "/run/sysctl.d/*.conf", "/usr/lib/sysctl.d/*.conf", "/etc/sysctl.conf"}
	}
	return nil
}

// absolute joins a relative pattern to where its service looks for it: beside
// the main file, or beside the including one.
func (d *Document) absolute(pattern, main string) string {
	if path.IsAbs(pattern) || pattern == "" {
		return pattern
	}
	switch d.Format {
	case SSH: // of the system's file; a user's own are in ~/.ssh
		return path.Join("/etc/ssh", pattern)
	case Nginx, Apache, SSHD, MySQL:
		return path.Join(path.Dir(main), pattern)
	}
	return path.Join(path.Dir(d.Name), pattern)
}

// included gives the files of the set that a pattern means, in reading order,
// and whether these are all.
func (s *Files) included(d *Document, pattern, main string) (files []*Document, all bool) {
	wild := strings.ContainsAny(pattern, "*?[")
	tries := []string{d.absolute(pattern, main)}
	// Copies elsewhere: by ever fewer of the pattern's last steps, beside the main
	// file and the directories above it.
	steps := strings.Split(strings.TrimLeft(path.Clean(pattern), "/"), "/")
	for dir := path.Dir(main); ; dir = path.Dir(dir) {
		for i := range steps {
			if i < len(steps)-1 || !wild {
				tries = append(tries, path.Join(append([]string{dir}, steps[i:]...)...))
			}
		}
		if dir == "/" || dir == "." {
			break
		}
	}
	for i, try := range tries {
		for _, f := range s.Documents {
			if ok, err := path.Match(try, path.Clean(f.Name)); ok && err == nil && f != d {
				files = append(files, f)
			}
		}
		if len(files) > 0 {
			slices.SortFunc(files, func(a, b *Document) int { return strings.Compare(a.Name, b.Name) })
			return files, s.Known != nil && s.Known(try, i > 0) || s.Known == nil && !wild
		}
	}
	for i, try := range tries {
		all = all || s.Known != nil && s.Known(try, i > 0)
	}
	return nil, all
}

// occurrence is one live entry where the service reads it.
type occurrence struct {
	doc         *Document
	n           *node
	scope       string // what it competes in
	chain       []*node
	chainDocs   []*Document
	order       int
	conditional string // the condition, with its place; empty where there is none
}

func (o *occurrence) at() string { return fmt.Sprintf("%s:%d", o.doc.Name, o.doc.lineOf(o.n)) }

// gap is an inclusion of files that are not at hand, or a line that is not
// understood and may set what it names.
type gap struct {
	scope, at, pattern string
	name               string // empty where anything may be set
	order              int
}

func (g *gap) why() string {
	if g.name != "" {
		return g.at + " is not understood, and may set it"
	}
	return fmt.Sprintf("%s includes %s, which is not among these files", g.at, g.pattern)
}

// reading is a set of files in the order in which the service reads them.
type reading struct {
	set   *Files
	main  string
	group string
	all   []*occurrence
	gaps  []gap
	depth int
	count int
}

// groups splits the set into what is read together: a main file with what it
// includes; a unit with its drop-ins; all of sysctl's files.
func (s *Files) groups() [][]*Document {
	in := map[*Document]bool{}
	for _, d := range s.Documents {
		if d.include == nil {
			continue
		}
		for i := 1; i < len(d.nodes); i++ {
			if n := &d.nodes[i]; n.kind == entry && !n.commented {
				if inc := d.include(d, n); inc != nil {
					for _, p := range inc.patterns {
						files, _ := s.included(d, p, d.Name)
						for _, f := range files {
							in[f] = in[f] || f != d && f.Format == d.Format
						}
					}
				}
			}
		}
	}
	var keys []string
	groups := map[string][]*Document{}
	for _, d := range s.Documents {
		if in[d] {
			continue
		}
		key := d.Name
		dir, base := path.Dir(d.Name), path.Base(d.Name)
		switch d.Format {
		case Systemd:
			key = "systemd " + base
			if strings.HasSuffix(dir, ".d") {
				key = "systemd " + strings.TrimSuffix(path.Base(dir), ".d")
			}
		case Sysctl:
			key = "sysctl"
		case PHP:
			if path.Base(dir) == "conf.d" {
				key = path.Join(path.Dir(dir), "php.ini")
			}
		}
		if groups[key] == nil {
			keys = append(keys, key)
		}
		groups[key] = append(groups[key], d)
	}
	var all [][]*Document
	for _, k := range keys {
		files := groups[k]
		slices.SortStableFunc(files, func(a, b *Document) int { return strings.Compare(readingOrder(a), readingOrder(b)) })
		all = append(all, files)
	}
	return all
}

// readingOrder sorts drop-ins behind their file, by their own names; sysctl.conf
// is read last (sysctl(8)).
func readingOrder(d *Document) string {
	base := path.Base(d.Name)
	switch {
	case d.Format == Sysctl && base == "sysctl.conf":
		return "~"
	case strings.HasSuffix(path.Dir(d.Name), ".d"):
		return "1" + base
	}
	return "0"
}

// stray tells whether files are read by themselves although another main file of
// their format includes files: they are leftovers, or snippets that nobody uses.
func (s *Files) stray(files []*Document, groups [][]*Document) bool {
	main := func(all []*Document) bool {
		return slices.ContainsFunc(all, func(d *Document) bool {
			if d.Format != Nginx {
				return d.include != nil && len(d.Includes(d.Name)) > 0
			}
			for n := range d.below(d.root()) { // snippets include others, too
				if n.kind == block && !n.commented && oneWord(d.nameOf(n), "http events stream mail") {
					return true
				}
			}
			return false
		})
	}
	if files[0].include == nil || main(files) {
		return false
	}
	return slices.ContainsFunc(groups, func(other []*Document) bool { return other[0].Format == files[0].Format && main(other) })
}

func (s *Files) read(files []*Document) *reading {
	r := &reading{set: s, main: files[0].Name, group: files[0].Name}
	for _, d := range files {
		r.walk(d, d.root(), "", nil, nil, "")
	}
	return r
}

func (r *reading) walk(d *Document, parent *node, scope string, chain []*node, docs []*Document, conditional string) {
	for n := range d.below(parent) {
		r.count++
		if n.commented {
			continue
		}
		if n.kind == opaque {
			r.odd(d, n, scope)
			continue
		}
		if n.kind == block {
			inner, condition := r.scope(d, n, scope), conditional
			if d.Format == Apache && conditionalBlock(d.nameOf(n)) || n.conditional && n.raw {
				condition = fmt.Sprintf("%s (%s:%d)", strings.TrimSpace(d.nameOf(n)+" "+d.argument(n)), d.Name, d.lineOf(n))
				if d.Format == Apache {
					inner = scope
				}
			}
			r.walk(d, n, inner, append(chain[:len(chain):len(chain)], n), append(docs[:len(docs):len(docs)], d), condition)
			continue
		}
		o := &occurrence{doc: d, n: n, scope: scope, chain: chain, chainDocs: docs, order: r.count, conditional: conditional}
		if n.conditional && o.conditional == "" {
			o.conditional = "a condition above it"
		}
		r.all = append(r.all, o)
		if d.include == nil {
			continue
		}
		in := d.include(d, n)
		if in == nil {
			continue
		}
		for _, pattern := range in.patterns {
			files, all := r.set.included(d, pattern, r.main)
			for _, f := range files {
				if f.Format == d.Format && r.depth < 20 {
					r.depth++
					if in.sections {
						r.walk(f, f.root(), "", nil, nil, conditional)
					} else {
						r.walk(f, f.root(), scope, chain, docs, conditional)
					}
					r.depth--
				}
			}
			if !all {
				at := scope
				if in.sections {
					at = ""
				}
				r.gaps = append(r.gaps, gap{scope: at, at: o.at(), pattern: pattern, order: r.count})
			}
		}
	}
}

// odd notes a stretch that is not understood: it may set what its first word
// names, or read another file.
func (r *reading) odd(d *Document, n *node, scope string) {
	at := fmt.Sprintf("%s:%d", d.Name, d.lineOf(n))
	g := gap{scope: scope, at: at, order: r.count, name: d.canonical(d.text(n.name))}
	if d.Format == Pairs {
		switch words := strings.Fields(firstLineOf(d.text(n.whole))); {
		case len(words) > 1 && (words[0] == "." || words[0] == "source" || words[0] == "eval"):
			g.name, g.pattern = "", words[1]
		case len(words) > 1 && words[0] == "unset":
			g.name = words[1]
		}
	}
	r.gaps = append(r.gaps, g)
}

func firstLineOf(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// scope names what entries of a block compete in: blocks of the same name and
// argument where the format merges them, else the block alone.
func (r *reading) scope(d *Document, n *node, outer string) string {
	if d.lines != nil && !d.nested { // sections do not nest
		outer = ""
	}
	name := d.canonical(d.nameOf(n)) + "\x01" + d.argument(n)
	if !d.merged {
		name += fmt.Sprintf("\x01%d", r.count)
	}
	return outer + "\x00" + name
}

// verdicts judges every occurrence.
func (r *reading) verdicts() map[*node]verdict {
	all := map[*node]verdict{}
	groups := map[string][]*occurrence{}
	var keys []string
	for _, o := range r.all {
		key := o.scope + "\x02" + o.key()
		if groups[key] == nil {
			keys = append(keys, key)
		}
		groups[key] = append(groups[key], o)
	}
	for _, key := range keys {
		r.judge(groups[key], all)
	}
	if len(r.all) > 0 && r.all[0].doc.Format == SSHD {
		r.matches(all)
	}
	return all
}

type verdict struct {
	force  Force
	why    string
	winner *occurrence // of what lost
}

// key is what equal entries of one scope share.
func (o *occurrence) key() string {
	name := o.doc.canonical(o.doc.nameOf(o.n))
	if o.n.attribute {
		name = "@" + name
	}
	if listed(o.doc.keyed, name) {
		if words := o.doc.words(o.n); len(words) > 0 {
			name += " " + words[0].text
		}
	}
	return name
}

func (r *reading) judge(same []*occurrence, all map[*node]verdict) {
	d := same[0].doc
	name := d.canonical(d.nameOf(same[0].n))
	counts := func(o *occurrence, why string) verdict {
		if o.conditional != "" {
			return verdict{Unknown, "counts only under " + o.conditional, nil}
		}
		return verdict{Won, why, nil}
	}
	if listed(d.repeats, name) || same[0].n.item || d.include != nil && d.include(d, same[0].n) != nil {
		reset := -1
		for i, o := range same {
			if d.Format == Systemd && o.n.value.empty() {
				reset = i // systemd.syntax(7): an empty assignment resets the list
			}
		}
		for i, o := range same {
			if i < reset {
				all[o.n] = verdict{Lost, same[reset].at() + " empties the list", same[reset]}
			} else {
				all[o.n] = counts(o, "")
			}
		}
		return
	}
	if d.wins == oneOnly {
		for _, o := range same {
			all[o.n] = counts(o, "")
			if len(same) > 1 {
				others := ""
				for _, x := range same {
					if x != o {
						others += ", " + x.at()
					}
				}
				all[o.n] = verdict{Unknown, "stands in the same place more than once: also " + others[2:], nil}
			}
		}
		return
	}
	order := slices.Clone(same) // the later in this order, the stronger
	word := "later"
	if d.wins == firstWins {
		slices.Reverse(order)
		word = "first"
	}
	var sure *occurrence // the strongest that counts for certain
	maybe := false       // a stronger one may count
	for i := len(order) - 1; i >= 0; i-- {
		o := order[i]
		switch {
		case sure != nil:
			all[o.n] = verdict{Lost, fmt.Sprintf("%s comes %s", sure.at(), word), sure}
		case o.conditional != "":
			all[o.n] = counts(o, "")
			maybe = true
		default:
			sure = o
			switch g := r.gapBeyond(o, d.wins == firstWins); {
			case maybe:
				all[o.n] = verdict{Unknown, "one that counts under a condition may win over it", nil}
			case g != nil:
				all[o.n] = verdict{Unknown, g.why(), nil}
			default:
				why := ""
				if len(same) > 1 {
					why = "comes " + strings.Replace(word, "later", "last", 1)
				}
				all[o.n] = verdict{Won, why, nil}
			}
		}
	}
}

// gapBeyond finds an inclusion of unknown files that may hold a stronger
// occurrence: behind o, or before it where the first one wins.
func (r *reading) gapBeyond(o *occurrence, before bool) *gap {
	for i := range r.gaps {
		g := &r.gaps[i]
		if (g.order > o.order) != before && (g.name == "" || g.name == o.doc.canonical(o.doc.nameOf(o.n))) && (g.scope == o.scope || g.scope == "" && !o.doc.nested) {
			return g
		}
	}
	return nil
}

// matches adds what sshd_config(5) says of Match: what it sets wins over the
// global part, and of several that apply the first one does.
func (r *reading) matches(all map[*node]verdict) {
	seen := map[string][]*occurrence{}
	for _, o := range r.all {
		name := o.doc.canonical(o.doc.nameOf(o.n))
		if o.scope == "" || listed(o.doc.repeats, name) {
			continue
		}
		for _, before := range seen[name] {
			if before.scope != o.scope && all[o.n].force == Won {
				if before.doc.argument(before.chain[0]) == o.doc.argument(o.chain[0]) {
					all[o.n] = verdict{Lost, before.at() + " has the same Match, and comes first", before}
				} else {
					all[o.n] = verdict{Unknown, fmt.Sprintf("Match %s (%s) comes first, and may apply too", before.doc.argument(before.chain[0]), before.at()), nil}
				}
			}
		}
		seen[name] = append(seen[name], o)
	}
	for _, o := range r.all {
		if v := all[o.n]; o.scope == "" && v.force == Won {
			if m := seen[o.doc.canonical(o.doc.nameOf(o.n))]; len(m) > 0 {
				v.why = fmt.Sprintf("except where Match %s applies (%s)", m[0].doc.argument(m[0].chain[0]), m[0].at())
				all[o.n] = v
			}
		}
	}
}

// Settings lists the entries of all files in the order of Documents, each with
// whether it is in force, and why.
func (s *Files) Settings() []Setting {
	verdicts := map[*node]verdict{}
	groups := s.groups()
	for _, files := range groups {
		stray := s.stray(files, groups)
		for n, v := range s.read(files).verdicts() {
			if stray {
				v = verdict{force: Unknown, why: "no file among these includes this one"}
			}
			verdicts[n] = v
		}
	}
	var all []Setting
	for _, d := range s.Documents {
		for _, one := range d.Settings() {
			one.judged(verdicts)
			all = append(all, one)
		}
	}
	return all
}

func (s *Setting) judged(verdicts map[*node]verdict) {
	if s.CommentedOut {
		s.InForce, s.Why = Lost, "commented out"
		return
	}
	v, ok := verdicts[s.node]
	if !ok {
		v = verdict{force: Won}
		if s.node.kind == entry && !s.node.item && s.doc.Format != XML {
			v = verdict{Unknown, "no main file among these includes it", nil}
		}
	}
	s.InForce, s.Why = v.force, v.why
}

// Losing is a setting that an edit wrote in vain.
type Losing struct {
	Setting
	Winner Setting // where it is decided: its address in its file works; zero where that is unknown
}

// Defeated finds, among the settings of one file, those which differ from
// before and lose to another occurrence, or may.
func (s *Files) Defeated(file string, before *Document) []Losing {
	was := map[string]string{}
	if before != nil {
		for _, x := range before.Settings() {
			if !x.CommentedOut {
				was[x.Address] = x.Value
			}
		}
	}
	var all []Losing
	for _, files := range s.groups() {
		r := s.read(files)
		verdicts := r.verdicts()
		for _, d := range s.Documents {
			if d.Name != file {
				continue
			}
			for _, x := range d.Settings() {
				v, ok := verdicts[x.node]
				old, there := was[x.Address]
				if !ok || x.CommentedOut || v.force == Won || there && old == x.Value {
					continue
				}
				x.InForce, x.Why = v.force, v.why
				l := Losing{Setting: x}
				if w := v.winner; w != nil {
					l.Winner = w.setting()
				}
				all = append(all, l)
			}
		}
	}
	return all
}

func (o *occurrence) setting() Setting {
	address := ""
	if a := o.doc.addressOf(o.n); a != nil {
		address = a.String()
	}
	return Setting{File: o.doc.Name, Address: address, Value: o.doc.shown(o.n, o.n.value), Line: o.doc.lineOf(o.n), node: o.n, doc: o.doc, InForce: Won}
}
