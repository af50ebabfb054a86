package conf

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Request is what a service is asked, or by whom: the part of it that decides
// which blocks govern the answer. Empty fields are not known.
type Request struct {
	Host    string // of an HTTP request: the name asked for; of a sign-in: where it comes from
	Port    string // the port asked, for HTTP; without it, 80
	Path    string // of the URL
	File    string // on the disk, where the URL does not tell it
	User    string
	Group   string
	Address string // of the one who asks
}

// Governing gives the settings that decide about a request, each with whether it
// wins; blocks that do not govern it are left out. It is an error where the
// format does not choose blocks by request, or where what is known of the
// request does not decide.
func (s *Files) Governing(q Request) ([]Setting, error) {
	var all []Setting
	known := false
	groups := s.groups()
	for _, files := range groups {
		if s.stray(files, groups) {
			continue
		}
		var governing func(*reading, Request) ([]*occurrence, error)
		switch files[0].Format {
		case Nginx:
			governing = (*reading).nginxGoverning
		case Apache:
			governing = (*reading).apacheGoverning
		case SSHD:
			governing = (*reading).sshdGoverning
		default:
			continue
		}
		known = true
		r := s.read(files)
		order, err := governing(r, q)
		if err != nil {
			return nil, err
		}
		all = append(all, strongest(order)...)
	}
	if !known {
		return nil, errors.New("only nginx, apache and sshd choose blocks by request; these files are of no such format")
	}
	return all, nil
}

// strongest lists occurrences, the weakest first in each name; the ones in the
// strongest place win, the others lose.
func strongest(order []*occurrence) []Setting {
	top := map[string]*occurrence{}
	listedAs, read := map[*node]Setting{}, map[*Document]bool{}
	for _, o := range order {
		top[o.key()] = o
		if !read[o.doc] {
			read[o.doc] = true
			for _, x := range o.doc.Settings() {
				listedAs[x.node] = x
			}
		}
	}
	var all []Setting
	for _, o := range order {
		x := listedAs[o.n]
		x.InForce = Won
		winner := top[o.key()]
		switch {
		case winner == o, o.scope == winner.scope && listed(o.doc.repeats, o.doc.canonical(o.doc.nameOf(o.n))):
			if o.conditional != "" {
				x.InForce, x.Why = Unknown, "counts only under "+o.conditional
			}
		default:
			x.InForce, x.Why = Lost, winner.at()+" wins for this request"
			if winner.conditional != "" {
				x.InForce, x.Why = Unknown, winner.at()+" wins under "+winner.conditional
			}
		}
		all = append(all, x)
	}
	return all
}

// entriesOf lists the values of a block's entries by one name.
func (r *reading) entriesOf(b *node, name string) (all [][]string) {
	for _, o := range r.all {
		if len(o.chain) > 0 && o.chain[len(o.chain)-1] == b && o.doc.canonical(o.doc.nameOf(o.n)) == name {
			var texts []string
			for _, w := range o.doc.words(o.n) {
				texts = append(texts, w.text)
			}
			all = append(all, texts)
		}
	}
	return all
}

// blockAt is a block with its file.
type blockAt struct {
	d *Document
	n *node
}

// blocks lists the blocks of a name in reading order, below in if that is given.
func (r *reading) blocks(name string, in *node) (all []blockAt) {
	seen := map[*node]bool{}
	for _, o := range r.all {
		for i, b := range o.chain {
			if d := o.chainDocs[i]; !seen[b] && d.canonical(d.nameOf(b)) == name && (in == nil || i > 0 && o.chain[i-1] == in) {
				seen[b] = true
				all = append(all, blockAt{d, b})
			}
		}
	}
	return all
}

// within gives the occurrences whose innermost block is b.
func (r *reading) within(b *node) (all []*occurrence) {
	for _, o := range r.all {
		if b == nil && len(o.chain) == 0 || len(o.chain) > 0 && o.chain[len(o.chain)-1] == b {
			all = append(all, o)
		}
	}
	return all
}

// nginxGoverning follows "How nginx processes a request" and the documentation
// of server_name and location.
func (r *reading) nginxGoverning(q Request) ([]*occurrence, error) {
	servers := r.blocks("server", nil)
	server, err := r.nginxServer(servers, q)
	if err != nil {
		return nil, err
	}
	order := r.within(nil)
	if http := r.blocks("http", nil); len(http) > 0 {
		order = append(order, r.within(http[0].n)...)
	}
	if server.n == nil {
		return order, nil
	}
	order = append(order, r.within(server.n)...)
	if q.Path == "" {
		return order, nil
	}
	chain, err := r.nginxLocation(server.n, q.Path)
	for _, b := range chain {
		order = append(order, r.within(b.n)...)
	}
	return order, err
}

func (r *reading) nginxServer(servers []blockAt, q Request) (blockAt, error) {
	port := cmp.Or(q.Port, "80")
	var on []blockAt
	var fallback blockAt
	for _, s := range servers {
		listens := r.entriesOf(s.n, "listen")
		if len(listens) == 0 {
			listens = [][]string{{"80"}}
		}
		for _, l := range listens {
			if len(l) == 0 {
				continue
			}
			at := l[0][strings.LastIndexByte(l[0], ':')+1:]
			if strings.Trim(at, "0123456789") != "" {
				at = "80"
			}
			if at != port {
				continue
			}
			if slices.Contains(l, "default_server") || slices.Contains(l, "default") {
				fallback = s
			}
			if len(on) == 0 || on[len(on)-1].n != s.n {
				on = append(on, s)
			}
		}
	}
	if len(on) == 0 {
		if len(servers) == 0 {
			return blockAt{}, nil
		}
		return blockAt{}, fmt.Errorf("no server listens on port %s here", port)
	}
	if fallback.n == nil {
		fallback = on[0]
	}
	host := strings.ToLower(q.Host)
	best, size, kind := fallback, -1, 0 // exact 3, *.x 2, x.* 1
	var regexes []blockAt
	var patterns []string
	for _, s := range on {
		for _, names := range r.entriesOf(s.n, "server_name") {
			for _, name := range names {
				name = strings.ToLower(name)
				k := 0
				switch {
				case strings.HasPrefix(name, "~"):
					regexes, patterns = append(regexes, s), append(patterns, name[1:])
				case name == host:
					k = 3
				case strings.HasPrefix(name, "*.") && strings.HasSuffix(host, name[1:]), strings.HasPrefix(name, ".") && (strings.HasSuffix(host, name) || host == name[1:]):
					k = 2
				case strings.HasSuffix(name, ".*") && strings.HasPrefix(host, name[:len(name)-1]):
					k = 1
				}
				if k > kind || k == kind && k > 0 && len(name) > size {
					best, size, kind = s, len(name), k
				}
			}
		}
	}
	if kind == 0 && host != "" {
		for i, p := range patterns {
			re, err := regexp.Compile(p)
			if err != nil {
				return best, fmt.Errorf("server_name ~%s: this regular expression cannot be tried here: %v", p, err)
			}
			if re.MatchString(host) {
				return regexes[i], nil
			}
		}
	}
	return best, nil
}

// nginxLocation gives the location that answers a path, with the ones around it.
func (r *reading) nginxLocation(in *node, url string) ([]blockAt, error) {
	var best blockAt
	size, final := -1, false
	type regex struct {
		b       blockAt
		pattern string
	}
	var regexes []regex
	for _, l := range r.blocks("location", in) {
		words := l.d.words(l.n)
		if len(words) == 0 {
			continue
		}
		modifier, pattern := "", words[0].text
		if len(words) > 1 {
			modifier, pattern = words[0].text, words[1].text
		}
		switch modifier {
		case "=":
			if pattern == url {
				return []blockAt{l}, nil
			}
		case "~":
			regexes = append(regexes, regex{l, pattern})
		case "~*":
			regexes = append(regexes, regex{l, "(?i)" + pattern})
		default:
			if strings.HasPrefix(url, pattern) && len(pattern) > size {
				best, size, final = l, len(pattern), modifier == "^~"
			}
		}
	}
	var deeper []blockAt
	if best.n != nil {
		var err error
		if deeper, err = r.nginxLocation(best.n, url); err != nil {
			return nil, err
		}
	}
	if len(deeper) == 0 && !final {
		for _, x := range regexes {
			re, err := regexp.Compile(x.pattern)
			if err != nil {
				return nil, fmt.Errorf("%s:%d: this regular expression cannot be tried here: %v", x.b.d.Name, x.b.d.lineOf(x.b.n), err)
			}
			if re.MatchString(url) {
				inner, err := r.nginxLocation(x.b.n, url)
				return append([]blockAt{x.b}, inner...), err
			}
		}
	}
	if best.n == nil {
		return nil, nil
	}
	return append([]blockAt{best}, deeper...), nil
}

// apacheGoverning follows httpd's manual, "Configuration Sections": the server,
// its virtual host, Directory from the shortest path on, Files, Location.
func (r *reading) apacheGoverning(q Request) ([]*occurrence, error) {
	vhost := r.apacheHost(q)
	// Blocks of the server come before those of the virtual host.
	ours := func(b blockAt) bool {
		for _, o := range r.all {
			for i, c := range o.chain {
				if c == b.n {
					for _, outer := range o.chain[:i] {
						if strings.EqualFold(o.doc.nameOf(outer), "VirtualHost") && outer != vhost.n {
							return false
						}
					}
					return true
				}
			}
		}
		return true
	}
	order := r.plain(nil)
	if vhost.n != nil {
		order = append(order, r.plain(vhost.n)...)
	}
	file := q.File
	if file == "" && q.Path != "" {
		file = r.apacheFile(order, q.Path)
	}
	type section struct {
		b    blockAt
		size int
	}
	var sections []section
	if file != "" {
		for _, b := range r.blocks("directory", nil) {
			pattern := strings.TrimRight(b.d.argument(b.n), "/")
			if ours(b) && !strings.HasPrefix(pattern, "~") && below(pattern, file) {
				sections = append(sections, section{b, len(strings.Split(pattern, "/"))})
			}
		}
		slices.SortStableFunc(sections, func(a, b section) int { return a.size - b.size })
	}
	var later []blockAt
	match := func(name string, fits func(pattern string) (bool, error)) error {
		for _, b := range r.blocks(name, nil) {
			ok, err := fits(b.d.argument(b.n))
			if err != nil {
				return fmt.Errorf("%s:%d: this regular expression cannot be tried here: %v", b.d.Name, b.d.lineOf(b.n), err)
			}
			if ok && ours(b) {
				later = append(later, b)
			}
		}
		return nil
	}
	regex := func(text string) func(string) (bool, error) {
		return func(pattern string) (bool, error) {
			re, err := regexp.Compile(strings.TrimPrefix(pattern, "~ "))
			return err == nil && text != "" && re.MatchString(text), err
		}
	}
	glob := func(text string) func(string) (bool, error) {
		return func(pattern string) (bool, error) {
			if strings.HasPrefix(pattern, "~ ") {
				return regex(text)(pattern)
			}
			ok, _ := path.Match(pattern, text)
			return ok && text != "", nil
		}
	}
	location := func(pattern string) (bool, error) {
		if strings.HasPrefix(pattern, "~ ") {
			return regex(q.Path)(pattern)
		}
		return q.Path != "" && (below(strings.TrimRight(pattern, "/"), q.Path) || strings.TrimRight(pattern, "/") == ""), nil
	}
	err := errors.Join(match("directorymatch", regex(file)), match("files", glob(path.Base(file))), match("filesmatch", regex(path.Base(file))),
		match("location", location), match("locationmatch", regex(q.Path)))
	for _, s := range sections {
		order = append(order, r.plain(s.b.n)...)
	}
	for _, b := range later {
		order = append(order, r.plain(b.n)...)
	}
	return order, err
}

// plain gives what stands in a block, or within blocks of conditions in it.
func (r *reading) plain(b *node) (all []*occurrence) {
	for _, o := range r.all {
		var inner *node
		for i, c := range o.chain {
			if !conditionalBlock(o.chainDocs[i].nameOf(c)) {
				inner = c
			}
		}
		if inner == b {
			all = append(all, o)
		}
	}
	return all
}

// below tells whether a path is what a pattern names, or lies below it.
func below(pattern, file string) bool {
	want, have := strings.Split(pattern, "/"), strings.Split(strings.TrimRight(file, "/"), "/")
	if pattern == "" {
		return true
	}
	if len(want) > len(have) {
		return false
	}
	for i, w := range want {
		if ok, err := path.Match(w, have[i]); !ok || err != nil {
			return false
		}
	}
	return true
}

func (r *reading) apacheHost(q Request) blockAt {
	var first, named blockAt
	for _, b := range r.blocks("virtualhost", nil) {
		on := false
		for _, w := range b.d.words(b.n) {
			port := w.text[strings.LastIndexByte(w.text, ':')+1:]
			on = on || port == "*" || port == cmp.Or(q.Port, "80") || !strings.Contains(w.text, ":")
		}
		if !on {
			continue
		}
		if first.n == nil {
			first = b
		}
		for _, names := range append(r.entriesOf(b.n, "servername"), r.entriesOf(b.n, "serveralias")...) {
			for _, name := range names {
				name, _, _ = strings.Cut(strings.TrimPrefix(strings.TrimPrefix(name, "http://"), "https://"), ":")
				if ok, _ := path.Match(strings.ToLower(name), strings.ToLower(q.Host)); ok && named.n == nil && q.Host != "" {
					named = b
				}
			}
		}
	}
	if named.n != nil {
		return named
	}
	return first
}

// apacheFile maps a URL's path by Alias and DocumentRoot.
func (r *reading) apacheFile(order []*occurrence, url string) string {
	root, alias, size := "", "", -1
	for _, o := range order {
		words := o.doc.words(o.n)
		switch o.doc.canonical(o.doc.nameOf(o.n)) {
		case "documentroot":
			if len(words) == 1 {
				root = words[0].text
			}
		case "alias", "scriptalias":
			if len(words) == 2 && below(strings.TrimRight(words[0].text, "/"), url) && len(words[0].text) > size {
				alias, size = path.Join(words[1].text, url[min(len(url), len(words[0].text)):]), len(words[0].text)
			}
		}
	}
	if size >= 0 {
		return alias
	}
	if root == "" {
		return ""
	}
	return path.Join(root, url)
}

// sshdGoverning follows sshd_config(5): the first value of the Match blocks that
// apply, else the first of the global part.
func (r *reading) sshdGoverning(q Request) ([]*occurrence, error) {
	var order []*occurrence
	for _, b := range r.blocks("match", nil) {
		ok, err := sshdApplies(b.d.words(b.n), q)
		if err != nil {
			return nil, fmt.Errorf("%s:%d: Match %s: %v", b.d.Name, b.d.lineOf(b.n), b.d.argument(b.n), err)
		}
		if ok {
			order = append(order, r.within(b.n)...)
		}
	}
	order = append(order, r.within(nil)...)
	slices.Reverse(order) // the weakest first
	return order, nil
}

func sshdApplies(words []word, q Request) (bool, error) {
	if len(words) == 1 && strings.EqualFold(words[0].text, "all") {
		return true, nil
	}
	if len(words)%2 != 0 {
		return false, errors.New("want pairs of a criterion and its patterns")
	}
	applies := true
	for i := 0; i < len(words); i += 2 {
		have, what := "", ""
		switch criterion := strings.ToLower(words[i].text); criterion {
		case "user":
			have, what = q.User, "user"
		case "group":
			have, what = q.Group, "group"
		case "host":
			have, what = q.Host, "host"
		case "address":
			have, what = q.Address, "address"
		case "localport":
			have, what = q.Port, "port"
		default:
			return false, fmt.Errorf("the criterion %s is not known here", words[i].text)
		}
		if have == "" {
			return false, fmt.Errorf("whether it applies depends on the %s; say it", what)
		}
		applies = applies && patternList(words[i+1].text, have, what == "address")
	}
	return applies, nil
}

// patternList is ssh_config(5)'s PATTERNS: any that fits, and none negated that
// does.
func patternList(list, have string, address bool) bool {
	fits := false
	for one := range strings.SplitSeq(list, ",") {
		pattern, negated := strings.CutPrefix(one, "!")
		ok := false
		if prefix, err := netip.ParsePrefix(pattern); address && err == nil {
			a, err := netip.ParseAddr(have)
			ok = err == nil && prefix.Contains(a)
		} else {
			ok, _ = path.Match(strings.ReplaceAll(pattern, "[", `\[`), have)
		}
		if ok && negated {
			return false
		}
		fits = fits || ok
	}
	return fits
}
