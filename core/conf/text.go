package conf

import "errors"

// unstructured is text of which nothing is understood: it has no entries.
type unstructured struct{}

var errUnstructured = errors.New("text has no entries; want a replace")

func (unstructured) parse(*Document) error                { return nil }
func (unstructured) same(a, b string) bool                { return a == b }
func (unstructured) encode(Value, string) (string, error) { return "", errUnstructured }
func (unstructured) word(string) (string, error)          { return "", errUnstructured }
func (unstructured) entry(name, value, _ string) string   { return name + value }
func (unstructured) block(name, _, _, _ string, _ []string) string {
	return name
}
