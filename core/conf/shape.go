package conf

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// foreign are texts that are no configuration, whatever their lines look like.
var foreign = regexp.MustCompile(`\.(md|rst|txt|html?|css|js|lua|p[lmy]|rb|c|h|sql|vcl|el|awk|sed|m4|ldif|schema|crt|pem|key|asc|patch|diff|csh|tmpl|policy|rules|bat|php|go|ts|tcl|mk|action|filter)$|(^|/)(apparmor\.d|nsd)/|(^|/)(README|LICEN[CS]E|COPYING|Makefile|NEWS|[Cc]hange[Ll]og|TODO|THANKS|AUTHORS)[^/]*$`)

var (
	page       = regexp.MustCompile(`\.html?$`)
	extension  = regexp.MustCompile(`\.[^/]*$`)
	configured = regexp.MustCompile(`\.(conf|cfg|cf|config|inc|conf\.[a-z]+)$|rc$|\.d/[^/.]+$`)

	xmlHead   = regexp.MustCompile(`^(\xef\xbb\xbf)?\s*<[?!]`)
	yamlHead  = regexp.MustCompile(`^(---[ \t]*(#.*)?\r?\n|#cloud-config\s|%YAML )`)
	shellHead = regexp.MustCompile(`^#![ \t]*/(usr/)?bin/(env[ \t]+)?(ba|da|k|a)?sh\b`)

	assignment = regexp.MustCompile(`^(export )?[A-Za-z_][A-Za-z0-9_]*=([^=]|$)`)
	keyed      = regexp.MustCompile(`^["']?[\w.-]+["']?:([ \t]|$)`)
	// keywordLine is a name and a few words; prose ends its lines otherwise.
	keywordLine = regexp.MustCompile(`^[A-Za-z@/*%+-][\w.:/@*%+-]*([ \t]+\S.*[^.:!?\s]|[ \t]+\S)?$`)
	// off and offWords are entries that are commented out, the mark right before them.
	off      = regexp.MustCompile(`^[#;]([A-Za-z_][\w.-]*)([ \t]*)=([ \t]*)`)
	offWords = regexp.MustCompile(`^#[A-Za-z][\w-]+[ \t]+\S+([ \t]+\S+){0,3}$`)
	// code is what no settings begin with, but programs do.
	code = regexp.MustCompile(`^(\.(ifdef|ifndef|endif|else)\b|function\b.*\(|var |let |use strict|require |class |sub \w+|return [^;]*;|[$@%]\w+ *=|my [$@%]|(el)?if \[|(fi|then|esac|done|else|[Ee]nd\w*)$|case .* in$|unset |alias |\. /|\w+ *\(\) *\{)`)
)

// shape is what the lines of a file look like, comments and empty ones left out.
type shape struct {
	path                               string
	data                               []byte
	binary, script, shell, yaml        bool
	repeated                           bool // a name before ":" comes again
	items                              int  // of the others, too: - a
	first                              byte // of the first of them
	sections, pairs, tight, ends, rest int  // [x]; a = b; those of them that a shell would read; what ends in ; { or }; others
	keyed, keywords, tags, commas      int  // of the others: a: b; a name and words; <a>; those that end in a comma
	folded                             int  // lines that are indented deeper than a pair before them
	off, offTight                      int  // #a = b; #a=b
	offWords                           int  // #a b
	upper                              int  // pairs, commented out or not, whose name is in capitals
	indented, code                     int  // lines that are; lines of a program
}

func shapeOf(path string, data []byte) (s shape) {
	s.path, s.data = path, data
	s.binary = bytes.IndexByte(data[:min(len(data), 8192)], 0) >= 0
	head := bytes.TrimLeft(data, "\xef\xbb\xbf \t\r\n")
	s.script, s.shell = bytes.HasPrefix(head, []byte("#!")), shellHead.Match(head)
	s.yaml = yamlHead.Match(head)
	comment, keys := false, map[string]bool{}
	paired := -1 // the indentation of the pair that lines may go on
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		if comment || strings.HasPrefix(text, "/*") {
			comment = !strings.HasSuffix(text, "*/")
			continue
		}
		if text == "" || text[0] == '#' || text[0] == ';' || strings.HasPrefix(text, "//") {
			if m := off.FindStringSubmatch(text); m != nil {
				s.off++
				if m[1] == strings.ToUpper(m[1]) {
					s.upper++
				}
				if m[2] == "" && m[3] == "" {
					s.offTight++
				}
			} else if offWords.MatchString(text) && !strings.HasSuffix(text, ".") {
				s.offWords++
			}
			continue
		}
		if s.first == 0 {
			s.first = text[0]
		}
		indent := len(line) - len(bytes.TrimLeft(line, " \t"))
		if indent > 0 {
			s.indented++
		}
		equals := strings.IndexByte(text, '=')
		if code.MatchString(text) {
			s.code++
		}
		switch {
		case text[0] == '[' && text[len(text)-1] == ']':
			s.sections++
			paired = -1
		case paired >= 0 && indent > paired && s.sections > 0:
			s.folded++
		case strings.IndexByte(";{}", text[len(text)-1]) >= 0 && !(equals > 0 && s.sections > 0):
			s.ends++
		case text[0] == '<' && text[len(text)-1] == '>':
			s.tags++
		case equals > 0:
			s.pairs++
			if name := strings.TrimPrefix(text[:equals], "export "); name == strings.ToUpper(name) {
				s.upper++
			}
			paired = indent
			if assignment.MatchString(text) {
				s.tight++
			}
		default:
			s.rest++
			switch {
			case strings.HasSuffix(text, ","):
				s.commas++
			case strings.HasPrefix(text, "- "):
				s.items++
			case keyed.MatchString(text):
				s.keyed++
				name, _, _ := strings.Cut(text, ":")
				s.repeated = s.repeated || keys[name]
				keys[name] = true
			case keywordLine.MatchString(text) && strings.Count(text, " ") < 20:
				s.keywords++
			}
		}
	}
	return s
}

// lines counts those that are neither empty nor comments.
func (s shape) lines() int {
	return s.sections + s.pairs + s.ends + s.rest + s.tags + s.folded
}

// clues tell a format by content alone: the first that looks so and reads so. Of one that
// looks so, does not read so and says what else it may be, no other is asked.
var clues = []struct {
	looks   func(s shape) bool
	format  Format
	reads   func(s shape) bool // nil where looks say enough
	unclear string
}{
	{func(s shape) bool {
		return s.first == '<' && !page.MatchString(s.path) && (xmlHead.Match(s.data) || s.path == "" || extension.MatchString(s.path))
	},
		XML, func(s shape) bool { d, err := Parse("", XML, s.data); return err == nil && d.live > 0 }, ""},
	{func(s shape) bool { return s.first == '{' || s.first == '[' && s.sections == 0 }, JSON, parses(JSON), ""},
	{func(s shape) bool { return s.yaml }, YAML, parses(YAML), "it begins as yaml does, and does not read so"},

	// From here on, what programs and pages look like, too.
	{func(s shape) bool { return foreign.MatchString(s.path) }, "", nil, ""},
	{func(s shape) bool { return s.first == 0 && s.off > 1 && s.upper == s.off && s.offTight == s.off }, Pairs, nil, ""},
	{func(s shape) bool { return s.first == 0 && s.off > 1 && s.upper == 0 }, Blocks, nil, ""},
	{func(s shape) bool {
		return s.first == 0 && s.off == 0 && s.offWords > 2 && configured.MatchString(s.path)
	}, Keywords, nil, ""},
	{func(s shape) bool { return s.first == 0 }, "", nil, ""},
	{func(s shape) bool {
		return s.tags > 1 && s.ends*10 < s.lines() && configured.MatchString(s.path) && bytes.Contains(s.data, []byte("</"))
	},
		Apache, func(s shape) bool {
			d, err := Parse(s.path, Apache, s.data)
			return err == nil && d.live > 0 && len(d.Passed())*10 <= d.live
		}, ""},
	{func(s shape) bool { return s.sections > 0 && s.pairs > 0 && s.rest+s.ends+s.tags == 0 },
		INI, func(s shape) bool {
			_, err := Parse("", TOML, s.data)
			return err != nil || !bytes.ContainsAny(s.data, "\"'")
		}, "sections and pairs speak for ini, and quoted values for toml"},
	{func(s shape) bool { return s.sections > 0 }, "", nil, ""},
	{func(s shape) bool {
		return s.ends > 0 && (bytes.IndexByte(s.data, '{') >= 0 || s.ends == s.lines() && configured.MatchString(s.path)) && s.commas*3 < s.lines() && s.code == 0
	}, Blocks, func(s shape) bool { return s.blocks(true) }, ""},
	{func(s shape) bool {
		return s.pairs > 0 && s.pairs == s.lines() && s.tight == s.pairs && s.upper == s.pairs+s.off
	}, Pairs, nil, ""},
	{func(s shape) bool {
		return (s.pairs > 1 || s.pairs > 0 && configured.MatchString(s.path)) && s.tags+s.code == 0
	},
		Blocks, func(s shape) bool { return s.blocks(false) }, ""},
	{func(s shape) bool { return s.pairs > 0 && s.rest*10 <= s.pairs }, "", nil, "lines with = speak for pairs or blocks"},
	{func(s shape) bool {
		return s.keyed > 0 && s.keyed == s.lines() && s.indented == 0 && !s.repeated && configured.MatchString(s.path)
	}, Blocks, nil, ""},
	{func(s shape) bool { return s.keyed > 0 && s.keyed+s.items == s.lines() && s.indented > 0 }, YAML, parses(YAML), "lines with : speak for yaml or blocks"},
	{func(s shape) bool { return s.keyed*10 > s.lines()*8 }, "", nil, "lines with : speak for yaml or blocks"},
	// Comments in /* */ are none to keywords.
	{func(s shape) bool { return s.worded() && slashed.Match(s.data) }, Blocks, nil, ""},
	{func(s shape) bool { return s.worded() }, Keywords, nil, ""},
}

var slashed = regexp.MustCompile(`(?m)^/\*`)

func parses(f Format) func(s shape) bool {
	return func(s shape) bool {
		_, err := Parse("", f, s.data)
		return err == nil
	}
}

// worded tells lines of a name and words, and nothing that says otherwise.
func (s shape) worded() bool {
	return s.keywords > 0 && s.keywords == s.lines() && s.off+s.indented+s.code == 0 && configured.MatchString(s.path) && !strings.HasSuffix(s.path, ".inc")
}

// shows names the format that content alone shows; why says what two it may be.
func (s shape) shows() (f Format, why string) {
	switch {
	case s.shell && parses(Pairs)(s):
		return Pairs, ""
	case s.script || s.binary:
		return "", ""
	}
	for _, c := range clues {
		switch {
		case !c.looks(s):
		case c.format == "":
			return "", c.unclear
		case c.reads == nil || c.reads(s):
			return c.format, ""
		case c.unclear != "":
			return "", c.unclear
		}
	}
	return "", ""
}

// likeliest names the two formats for which most lines speak.
func (s shape) likeliest() string {
	type speaker struct {
		lines  int
		what   string
		speaks Format
	}
	all := []speaker{
		{s.sections + s.folded, "in or below [sections]", INI}, {s.ends, "that end in ; or a brace", Blocks}, {s.pairs, "with =", Pairs},
		{s.keyed, "with :", YAML}, {s.keywords, "of a name and words", Keywords}, {s.tags, "in < and >", Apache},
	}
	if s.script || foreign.MatchString(s.path) {
		return ""
	}
	slices.SortStableFunc(all, func(a, b speaker) int { return b.lines - a.lines })
	said := ""
	for i, one := range all[:2] {
		if one.lines > 0 {
			said += fmt.Sprintf("%s %s %s for %s", [2]string{":", ","}[i], counted(one.lines), one.what, one.speaks)
		}
	}
	return said
}

func counted(lines int) string {
	if lines == 1 {
		return "1 line"
	}
	return fmt.Sprintf("%d lines", lines)
}

// blocks tells that the content reads as the general format does: most of it, no block
// without a name, as programs and lists of rules have, and but for what stands in
// braces nearly all with "=" or ":".
func (s shape) blocks(braces bool) bool {
	d, err := Parse(s.path, Blocks, s.data)
	if err != nil || d.live == 0 || len(d.Passed())*2 > d.live+1 {
		return false
	}
	signs, blanks := 0, 0
	for i := 1; i < len(d.nodes); i++ {
		switch n := &d.nodes[i]; {
		case n.kind == block && n.name.empty():
			return false
		case n.kind != entry || n.commented:
		case n.value.empty() && d.src[n.name.end:n.whole.end] == ":": // a block without braces
			return false
		case strings.ContainsAny(d.src[n.name.end:n.value.start], "=:"):
			signs++
		default:
			blanks++
		}
	}
	return braces || blanks*10 <= signs
}
