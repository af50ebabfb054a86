package probe

import (
	"regexp"
	"strconv"
	"strings"
)

// A host may carry several instances of a service, each with a name. In a definition,
// {instance} stands for it, {instance:path} for it with slashes in place of hyphens (as %I
// is to %i in systemd.unit(5)), and {instance:1}, {instance:2}, … for its parts between
// hyphens.

var (
	instanceRef  = regexp.MustCompile(`\{instance(?::(path|[1-9]))?\}`)
	instanceName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._]*(-[A-Za-z0-9_][A-Za-z0-9._]*)*$`)
)

// ValidInstance tells whether a text can name an instance: nothing in it can be read as
// anything but a name, wherever it is put.
func ValidInstance(name string) bool {
	return instanceName.MatchString(name) && !strings.Contains(name, "..") && len(name) <= 100
}

// SpeaksOfInstance tells whether a text wants the name of an instance.
func SpeaksOfInstance(text string) bool { return instanceRef.MatchString(text) }

// FillInstance gives a text with the name of an instance in place.
func FillInstance(text, name string) string {
	return instanceRef.ReplaceAllStringFunc(text, func(ref string) string {
		switch form := instanceRef.FindStringSubmatch(ref)[1]; form {
		case "":
			return name
		case "path":
			return strings.ReplaceAll(name, "-", "/")
		default:
			n, _ := strconv.Atoi(form)
			if parts := strings.Split(name, "-"); n <= len(parts) {
				return parts[n-1]
			}
			return ""
		}
	})
}

// Of gives the probe as it is put to an instance.
func (p Probe) Of(instance string) Probe {
	fill := func(text string) string { return FillInstance(text, instance) }
	p.Ask, p.Expect, p.Before, p.After = fill(p.Ask), fill(p.Expect), fill(p.Before), fill(p.After)
	first := p.First
	p.First = nil
	for _, line := range first {
		p.First = append(p.First, fill(line))
	}
	return p
}
