package finding

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
)

// Places are where a veto can be overridden. The zero value is nowhere.
type Places struct {
	// Definition: by despite: in the service's definition, which another admin approves.
	Definition bool
	// Policy: by a person whom policy names for this code, for one host and one plan.
	Policy bool
	// nobody says why neither is so.
	nobody string
}

// Why says in words where it can be overridden, or why nowhere.
func (p Places) Why() string {
	switch {
	case p.Definition && p.Policy:
		return "the definition's despite, or whom policy names"
	case p.Definition:
		return "the definition's despite alone"
	case p.Policy:
		return "whom policy names"
	case p.nobody != "":
		return "nobody: " + p.nobody
	}
	return "nobody: no rule lets anybody"
}

// Reasons why nobody overrides a veto.
const (
	nothingMade  = "there is nothing that could be placed"
	notReached   = "we do not know what is there"
	notPermitted = "nobody has approved what would be done"
	mendChange   = "mend the change"
	wayIn        = "our own way in would be cut"
	wholeChange  = "it is about the change as a whole"
)

// overriding says of each veto who may override it, and where. What is not here nobody may.
var overriding = map[string]Places{
	// The service's definition or the host's state says no, and there is a candidate.
	"rule":               {Policy: true},
	"overruled":          {Policy: true},
	"port-taken":         {Policy: true},
	"port-not-permitted": {Policy: true},
	"path-missing":       {Policy: true},
	"path-unreadable":    {Policy: true},
	"expired":            {Policy: true},
	"not-valid-yet":      {Policy: true},
	"key-does-not-fit":   {Policy: true},
	"not-proven":         {Definition: true, Policy: true},

	// Hazards of a path.
	"package-file": {Definition: true, Policy: true},
	"generated":    {Definition: true, Policy: true},
	"hard-links":   {Definition: true},
	"mount-point":  {Definition: true},
	"immutable":    {Definition: true},
	"append-only":  {Definition: true},
	"read-only":    {Definition: true},
	"open-parent":  {Definition: true},
	"own-link":     {Definition: true},
	"swapped":      {Definition: true},
	"no-private":   {Definition: true},
	"swap-file":    {Definition: true},
	"too-long":     {Definition: true},
	"too-much":     {Definition: true},
	OutsideRoots:   {nobody: "it lies outside the directories in which the service may write"},

	// The service's own checker.
	"refused":         {nobody: "the service's own checker refuses it"},
	"already-refused": {nobody: "the service's own checker refuses what is there already"},
	"not-shown":       {nobody: "the service's own checker shows other values"},
	"cannot-tell":     {nobody: "the service's own checker gave no answer"},

	// Who is at the other end, and what we may do there.
	"host-key-unknown":   {nobody: "nobody has confirmed the host's key"},
	"host-key-changed":   {nobody: "the host has another key than the one pinned"},
	"unreachable":        {nobody: notReached},
	"connection-refused": {nobody: notReached},
	"timeout":            {nobody: notReached},
	"not-permitted":      {nobody: notReached},
	"no-sudo":            {nobody: notReached},
	"no-way-there":       {nobody: notReached},
	"own-way-in":         {nobody: wayIn},
	"sign-in-lost":       {nobody: "people would be locked out; where that is the aim, the change says locks-out"},
	"not-read":           {nobody: notReached},
	"failed":             {nobody: notReached},
	"not-carried":        {nobody: nothingMade},
	"no-instance":        {nobody: nothingMade},
	"not-to-be-asked":    {nobody: notPermitted},
	"secret-not-bound":   {nobody: "an admin says where a secret may go, with wladder secret -bind"},
	"no-secret":          {nobody: nothingMade},

	// What the change says, or the definition, cannot be carried out.
	"no-such-make":         {nobody: mendChange},
	"no-such-kept":         {nobody: mendChange},
	"no-such-file":         {nobody: mendChange},
	"edit-refused":         {nobody: mendChange},
	"out-of-range":         {nobody: mendChange},
	"wrong-type":           {nobody: mendChange},
	"not-allowed":          {nobody: mendChange},
	"not-computable":       {nobody: mendChange},
	"secret-written-out":   {nobody: mendChange},
	"two-services":         {nobody: mendChange},
	"no-return":            {nobody: mendChange},
	"edited-since":         {nobody: "somebody has edited it since, past this server"},
	"other-version":        {nobody: nothingMade},
	"base-missing":         {nobody: nothingMade},
	"base-unreadable":      {nobody: nothingMade},
	"no-path":              {nobody: nothingMade},
	"no-act":               {nobody: nothingMade},
	"cannot-tell-in-force": {nobody: nothingMade},
	"rule-cannot-tell":     {nobody: notReached},

	"no-hosts":          {nobody: wholeChange},
	"unexpected-number": {nobody: wholeChange},
	"ladder":            {nobody: wholeChange},
	"keep":              {nobody: wholeChange},
	"nothing-planned":   {nobody: wholeChange},
	"edited":            {nobody: "the base is not that of the review"},
	"begun-anew":        {nobody: "the base is not that of the review"},
}

// Overriding says where a veto of that code can be overridden.
func Overriding(code string) Places { return overriding[code] }

// Codes lists the vetoes of which the table knows, sorted.
func Codes() []string { return slices.Sorted(maps.Keys(overriding)) }

// ID names a finding by what it says: the same on every host on which it says the same.
func (f Finding) ID() string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%s\n%d\n%s\n%s", f.Code, f.File, f.Line, f.Level, f.Text))
	return hex.EncodeToString(sum[:4])
}

// Barred gives the ids of a host's vetoes where policy may override each of them, and nil
// where nobody may override one, or there is none.
func Barred(findings []Finding) (ids []string) {
	for _, f := range findings {
		if f.Level != Veto {
			continue
		}
		if !Overriding(f.Code).Policy {
			return nil
		}
		if !slices.Contains(ids, f.ID()) {
			ids = append(ids, f.ID())
		}
	}
	slices.Sort(ids)
	return ids
}
