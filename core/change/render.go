package change

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strings"

	"wladder/core/conf"
	"wladder/core/expr"
)

// Level is how much a finding weighs.
type Level string

// The levels: a stop keeps its host out of the plan, or the whole change from
// being offered where it concerns the whole.
const (
	StopLevel Level = "stop"
	WarnLevel Level = "warn"
	NoteLevel Level = "note"
)

// Finding is one thing a rehearsal noticed.
type Finding struct {
	Level Level  `json:"level"`
	Code  string `json:"code"` // such as out-of-range
	Text  string `json:"text"`
	File  string `json:"file,omitempty"`
	Line  int    `json:"line,omitempty"`
}

// Found is a file as it was read on a host.
type Found struct {
	Path     string
	Resolved string // where links lead; the same where there are none
	Missing  bool
	Kind     string // "regular file" in the words of stat(1), or another
	Content  []byte
	Owner    string
	Group    string
	Mode     string // octal
	Links    int
	Denied   string // why it must not be replaced, as the host's script found; empty where nothing speaks against it
}

// Rendered is one file's candidate on one host.
type Rendered struct {
	Key         string
	Found       Found
	Candidate   []byte
	Diff        string // secrets masked
	Alterations []conf.Alteration
}

// Result is what a change comes to on one host.
type Result struct {
	Files    []Rendered // those that change
	Act      Act
	Findings []Finding
	Executes bool // the checker must not see it before it is approved
}

// Stops tells whether a finding keeps the host out.
func (r *Result) Stops() bool {
	for _, f := range r.Findings {
		if f.Level == StopLevel {
			return true
		}
	}
	return false
}

func (r *Result) find(level Level, code, file string, line int, format string, args ...any) {
	r.Findings = append(r.Findings, Finding{level, code, fmt.Sprintf(format, args...), file, line})
}

// Render computes a change's candidates on one host from the files read there,
// by their key in the definition.
func Render(svc *Service, spec *Spec, host expr.Host, files map[string]Found) Result {
	var r Result
	docs := map[string]*conf.Document{}
	keys := make([]string, 0, len(svc.Files))
	for key := range svc.Files {
		keys = append(keys, key)
	}
	sort.Strings(keys)
	act := 0
	original := map[string]*conf.Document{}
	for _, e := range spec.Edits {
		key := e.File
		if key == "" {
			key = svc.onlyFile()
		}
		def, ok := svc.Files[key]
		if !ok {
			r.find(StopLevel, "no-such-file", "", 0, "file %q is not one of service %s; it has %s", key, svc.Name, strings.Join(keys, ", "))
			continue
		}
		if docs[key] == nil {
			doc := r.read(def, files[key], host)
			if doc == nil {
				return r
			}
			docs[key], original[key] = doc, doc
		}
		edit, ok := r.resolve(e, host)
		if !ok {
			continue
		}
		address, _ := conf.ParseAddress(edit.Address)
		rule := svc.setting(key, address)
		if edit.Do == conf.Set && rule != nil {
			value := edit.To.Text
			if edit.To.Words != nil {
				value = strings.Join(edit.To.Words, " ")
			}
			if wrong := rule.judge(value); wrong != "" {
				if rule.Secret {
					wrong = "the secret value is not of the type, or in the range, that the definition wants"
				}
				_, line, _ := docs[key].Get(edit.Address)
				code := "wrong-type"
				if strings.Contains(wrong, "out of range") {
					code = "out-of-range"
				} else if strings.Contains(wrong, "not allowed") {
					code = "not-allowed"
				}
				r.find(StopLevel, code, files[key].Path, line, "%s: %s", edit.Address, wrong)
				continue
			}
		}
		need := len(svc.Acts) - 1 // what the definition does not know wants the heaviest act
		if rule != nil && rule.Act != "" {
			need = svc.act(rule.Act)
		}
		act = max(act, need)
		doc, err := docs[key].Apply(edit)
		if err != nil {
			at := &conf.Error{}
			errors.As(err, &at)
			text := at.What
			if at.Address != "" {
				text = at.Address + ": " + text
			}
			r.find(StopLevel, "edit-refused", files[key].Path, at.Line, "%s", text)
			continue
		}
		docs[key] = doc
		if edit.Do == conf.Set && svc.executes(key, address) {
			r.Executes = true
			r.find(WarnLevel, "tried-later", files[key].Path, 0, "%s can bring code that the service's checker would run; the checker sees it once the change is approved, before anything is placed", edit.Address)
		}
	}
	for _, key := range keys {
		doc := docs[key]
		if doc == nil || string(doc.Bytes()) == string(original[key].Bytes()) {
			continue
		}
		before, after := original[key], doc
		file := Rendered{Key: key, Found: files[key], Candidate: after.Bytes(), Alterations: conf.Compare(before, after)}
		secret := svc.secrets(key)
		for i, a := range file.Alterations {
			if secret(a.Address) {
				file.Alterations[i].Old, file.Alterations[i].New = masked(a.Old), masked(a.New)
			}
		}
		file.Diff = Unified(files[key].Path, mask(before, secret), mask(after, secret))
		if file.Diff == "" { // only masked values differ: say so, without them
			file.Diff = Unified(files[key].Path, []byte("a secret value\n"), []byte("another secret value\n"))
		}
		r.Files = append(r.Files, file)
	}
	if len(r.Files) == 0 && !r.Stops() {
		r.find(NoteLevel, "nothing-to-change", "", 0, "the files say already what this change wants")
	}
	r.Act = svc.Acts[act]
	return r
}

// read parses a file as found, or says why it cannot be changed.
func (r *Result) read(def File, f Found, host expr.Host) *conf.Document {
	switch {
	case f.Path == "":
		r.find(StopLevel, "no-path", "", 0, "the service has no path for this file on OS family %q", host.Traits.OSFamily)
	case f.Missing:
		r.find(StopLevel, "base-missing", f.Path, 0, "is not there; is the software installed on this host?")
	case f.Kind != "regular file":
		r.find(StopLevel, "base-unreadable", f.Path, 0, "is a %s; want a regular file", f.Kind)
	case f.Denied != "":
		r.find(StopLevel, "not-replaceable", f.Path, 0, "%s", f.Denied)
	case f.Links > 1:
		r.find(StopLevel, "hard-links", f.Path, 0, "has %d hard links; replacing one name would leave the others old", f.Links)
	default:
		doc, err := conf.Parse(f.Path, def.Format, f.Content)
		if err == nil {
			return doc
		}
		at := &conf.Error{}
		errors.As(err, &at)
		r.find(StopLevel, "base-unreadable", f.Path, at.Line, "%s", at.What)
	}
	return nil
}

func (r *Result) resolve(e Edit, host expr.Host) (conf.Edit, bool) {
	edit := conf.Edit{Do: conf.Set, Address: e.Set, Every: e.Every}
	switch {
	case e.Remove != "":
		edit.Do, edit.Address = conf.Remove, e.Remove
	case e.To != nil:
		edit.To = e.To.Value
	default:
		program, err := expr.Compile(e.Compute, expr.HostVars, expr.Scalar)
		if err == nil {
			edit.To.Text, err = program.Scalar(host.Vars())
		}
		if err != nil {
			r.find(StopLevel, "not-computable", "", 0, "%s: %v", e.Set, err)
			return edit, false
		}
	}
	return edit, true
}

var passwordLike = regexp.MustCompile(`(?i)(passw|secret|token|private.?key|passphrase)`)

// secrets tells which addresses of a file hold secrets: marked ones, and those
// with a name like a password's.
func (s *Service) secrets(file string) func(address string) bool {
	return func(text string) bool {
		a, err := conf.ParseAddress(text)
		if err != nil || len(a) == 0 {
			return false
		}
		if rule := s.setting(file, a); rule != nil {
			return rule.Secret
		}
		last := a[len(a)-1]
		name := last.Name
		return passwordLike.MatchString(name) && !strings.Contains(strings.ToLower(name), "authentication") && !strings.Contains(strings.ToLower(name), "tokens")
	}
}

func masked(value string) string {
	if value == "" {
		return ""
	}
	return "‹secret›"
}

// mask gives the document's text with the values of secret settings covered,
// in comments too.
func mask(doc *conf.Document, secret func(string) bool) []byte {
	return doc.Masked(func(s conf.Setting) bool { return secret(s.Address) }, "‹secret›")
}

// Group gathers the hosts on which a change comes to the same.
type Group struct {
	Key         string            `json:"key"` // 12 hex digits
	Hosts       []string          `json:"hosts"`
	Diff        string            `json:"diff"`
	Alterations []conf.Alteration `json:"alterations"`
	Act         string            `json:"act"`
	Findings    []Finding         `json:"findings"`
}

// GroupKey names what a result comes to, whatever the host.
func GroupKey(diff, act string, findings []Finding) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %+q", diff, act, fmt.Sprint(findings))
	return hex.EncodeToString(h.Sum(nil))[:12]
}

// SortGroups puts the odd ones first: those that stop, then the smallest.
func SortGroups(groups []Group) {
	stops := func(g Group) bool {
		for _, f := range g.Findings {
			if f.Level == StopLevel {
				return true
			}
		}
		return false
	}
	sort.SliceStable(groups, func(i, k int) bool {
		a, b := groups[i], groups[k]
		switch {
		case stops(a) != stops(b):
			return stops(a)
		case len(a.Hosts) != len(b.Hosts):
			return len(a.Hosts) < len(b.Hosts)
		}
		return a.Key < b.Key
	})
}
