package conf

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

var (
	entity   = regexp.MustCompile(`<!ENTITY\s+([\w.:-]+)\s`)
	external = regexp.MustCompile(`^DOCTYPE\s+\S+\s+(SYSTEM|PUBLIC)\s`)
	unknown  = regexp.MustCompile(`invalid character entity &([\w.:-]+);`)
)

// wellFormed holds an XML document against the language, before it is edited: ours reads
// more than a program would (Extensible Markup Language 1.0, 2.1; Namespaces in XML 1.0,
// 6.3 and 7).
func (d *Document) wellFormed() error {
	d.strict.Do(func() { d.unsound = d.strictly() })
	return d.unsound
}

func (d *Document) strictly() error {
	declared, outside := map[string]string{}, false
	for range 100 { // entities that an external subset may declare come one by one
		err := d.readStrictly(declared, &outside)
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) {
			if m := unknown.FindStringSubmatch(syntax.Msg); m != nil && outside {
				declared[m[1]] = ""
				continue
			}
			return &Error{File: d.Name, Line: syntax.Line, What: "is not well-formed XML: " + syntax.Msg}
		}
		return err
	}
	return nil
}

// readStrictly reads the whole document with the standard library's parser, and looks
// at what that one leaves to others: attributes twice, prefixes that nothing binds.
func (d *Document) readStrictly(declared map[string]string, outside *bool) error {
	r := xml.NewDecoder(strings.NewReader(d.src[d.bom():]))
	r.Entity = declared
	r.CharsetReader = func(label string, in io.Reader) (io.Reader, error) {
		if !d.latin1() {
			return nil, fmt.Errorf("encoding %q is not one of UTF-8, ISO-8859-1 and windows-1252", label)
		}
		data, err := io.ReadAll(in)
		return strings.NewReader(fromLatin1(string(data))), err
	}
	bad := func(format string, args ...any) error {
		line, _ := r.InputPos()
		return &Error{File: d.Name, Line: line, What: "is not well-formed XML: " + fmt.Sprintf(format, args...)}
	}
	bound := []map[string]bool{{"xml": true, "xmlns": true}}
	for {
		token, err := r.RawToken()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.Directive:
			*outside = *outside || external.Match(t)
			for _, m := range entity.FindAllSubmatch(t, -1) {
				declared[string(m[1])] = ""
			}
		case xml.StartElement:
			seen, here := map[xml.Name]bool{}, map[string]bool{}
			for _, a := range t.Attr {
				if seen[a.Name] {
					return bad("the attribute %s stands twice in <%s>", prefixed(a.Name), prefixed(t.Name))
				}
				seen[a.Name] = true
				if a.Name.Space == "xmlns" {
					here[a.Name.Local] = true
				}
			}
			bound = append(bound, here)
			for _, name := range append([]xml.Name{t.Name}, names(t.Attr)...) {
				if !isBound(bound, name.Space) {
					return bad("nothing binds the prefix of %s", prefixed(name))
				}
			}
		case xml.EndElement:
			if len(bound) > 1 { // our own reading has matched the tags
				bound = bound[:len(bound)-1]
			}
		}
	}
}

func names(attributes []xml.Attr) (all []xml.Name) {
	for _, a := range attributes {
		all = append(all, a.Name)
	}
	return all
}

func isBound(scopes []map[string]bool, prefix string) bool {
	return prefix == "" || slices.ContainsFunc(scopes, func(scope map[string]bool) bool { return scope[prefix] })
}

func prefixed(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}
