// Package expr is the product's one expression language, CEL, over what we know
// of a host or of a probe's answer. Expressions are type-checked when compiled
// and have a cost limit when evaluated.
//
//	where, err := expr.Compile(`labels.role == "bulletin" && cores >= 4`, expr.HostVars, expr.Bool)
//	yes, err := where.Bool(host.Vars())
package expr

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wladder/core/cache"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
)

// costLimit bounds one evaluation, in CEL's cost units.
const costLimit = 100_000

// Kind is what an expression gives.
type Kind int

// Bool expressions decide; Scalar ones compute a text, a number or a boolean; List ones
// a list of texts.
const (
	Bool Kind = iota
	Scalar
	List
)

// Vars names a set of variables with their types.
type Vars struct {
	env *cel.Env
	err error
}

func vars(options ...cel.EnvOption) Vars {
	env, err := cel.NewEnv(append(options, ext.Math(), ext.Strings())...)
	return Vars{env, err}
}

var (
	texts = cel.MapType(cel.StringType, cel.StringType)
	list  = cel.ListType(cel.StringType)

	anything = cel.MapType(cel.StringType, cel.DynType)
)

// hostOptions declare the labels and traits of a host, and what is reckoned with them.
var hostOptions = []cel.EnvOption{
	cel.Variable("name", cel.StringType),
	cel.Variable("labels", texts),
	cel.Variable("os", cel.StringType),
	cel.Variable("family", cel.StringType),
	cel.Variable("os_version", cel.StringType),
	cel.Variable("arch", cel.StringType),
	cel.Variable("cores", cel.IntType),
	cel.Variable("memory", cel.IntType),
	cel.Variable("units", list),
	cel.Variable("packages", texts),
	cel.Function("atLeast", cel.Overload("at_least_string_string", []*cel.Type{cel.StringType, cel.StringType}, cel.BoolType, cel.BinaryBinding(atLeast))),
	cel.Function("min", cel.Overload("min_int_int", []*cel.Type{cel.IntType, cel.IntType}, cel.IntType,
		cel.BinaryBinding(func(a, b ref.Val) ref.Val { return pick(a, b, types.IntNegOne) }))),
	cel.Function("max", cel.Overload("max_int_int", []*cel.Type{cel.IntType, cel.IntType}, cel.IntType,
		cel.BinaryBinding(func(a, b ref.Val) ref.Val { return pick(a, b, types.IntOne) }))),
	cel.Function("amount", cel.Overload("amount_string", []*cel.Type{cel.StringType}, cel.IntType, cel.UnaryBinding(amount))),
}

// HostVars are the labels and traits of a host. A label that a host has not is
// the empty text; memory is in bytes. units are those that the survey looked for and found
// loaded, packages the versions of those that definitions name; atLeast(packages.nginx,
// "1.25") compares versions, false where the package does not exist. amount("16M") is 16777216: a number as
// configuration files write it, with K, M, G or T for powers of 1024.
var HostVars = vars(hostOptions...)

// LabelVars are a host's labels alone: what policy goes by, since only admins set them.
var LabelVars = vars(cel.Variable("labels", texts))

// EditVars are HostVars, and what a change's edits may speak of beside: present, the
// values in the host's files as they are, by the file's key and the address, empty where
// there is none ("main" in present tells whether a file is there, and "a/b" in present.main
// whether an address is); values, those that the change names; and instance, the name of the
// service's instance, empty where it has none.
var EditVars = vars(append(slices.Clone(hostOptions),
	cel.Variable("present", cel.MapType(cel.StringType, texts)),
	cel.Variable("values", texts),
	cel.Variable("instance", cel.StringType),
)...)

// RuleVars are HostVars, and what rules of definitions may speak of beside: present, as in
// EditVars, and after, the same as the change leaves it; and limits, what the service manager
// allows the unit: files that a process may have open (0 where it is not known), and memory
// in bytes, at most the host's.
var RuleVars = vars(append(slices.Clone(hostOptions),
	cel.Variable("present", cel.MapType(cel.StringType, texts)),
	cel.Variable("after", cel.MapType(cel.StringType, texts)),
	cel.Variable("instance", cel.StringType),
	cel.Variable("limits", cel.MapType(cel.StringType, cel.IntType)),
)...)

var amountRule = regexp.MustCompile(`^([0-9]+) ?([KMGTkmgt]?)(i?[Bb])?$`)

func amount(v ref.Val) ref.Val {
	text, _ := v.Value().(string)
	m := amountRule.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return types.NewErr("amount: the text is not a number, with or without K, M, G or T behind it") // what a host's file says is not repeated
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	shift := map[string]int{"": 0, "k": 10, "m": 20, "g": 30, "t": 40}[strings.ToLower(m[2])]
	if err != nil || n > math.MaxInt64>>shift {
		return types.NewErr("amount: the number is too large")
	}
	return types.Int(n << shift)
}

func pick(a, b ref.Val, when ref.Val) ref.Val {
	if a.(traits.Comparer).Compare(b).Equal(when) == types.True {
		return a
	}
	return b
}

// AnswerVars are what a probe brings back; each kind of probe fills its own.
var AnswerVars = vars(
	cel.Variable("status", cel.IntType),      // http: the status code
	cel.Variable("headers", texts),           // http: by lower-case name
	cel.Variable("body", cel.StringType),     // http: at most 64 KiB, unpacked
	cel.Variable("size", cel.IntType),        // http: bytes of the body over the wire
	cel.Variable("connected", cel.BoolType),  // tcp, tls, ssh, http
	cel.Variable("banner", cel.StringType),   // tcp, ssh: what the other side says first; tcp: its reply
	cel.Variable("held", cel.BoolType),       // tcp, tls, http: still open at the end of hold
	cel.Variable("methods", list),            // ssh: ways to sign in offered to the user
	cel.Variable("signed_in", cel.BoolType),  // ssh
	cel.Variable("protocol", cel.StringType), // tls, https: such as TLS 1.3
	cel.Variable("names", list),              // tls, https: of the certificate
	cel.Variable("days_left", cel.IntType),   // tls, https: of the certificate
	cel.Variable("issuer", cel.StringType),   // tls, https
	cel.Variable("chain", cel.IntType),       // tls, https: certificates sent
	cel.Variable("trusted", cel.BoolType),    // tls, https
	cel.Variable("state", cel.StringType),    // unit: active, failed, …
	cel.Variable("sub", cel.StringType),      // unit: running, exited, …
	cel.Variable("restarts", cel.IntType),    // unit: restarts by the service manager
	cel.Variable("processes", cel.IntType),   // unit: the main process and its children
	cel.Variable("renewed", cel.IntType),     // unit: those of them started since the last act
	cel.Variable("count", cel.IntType),       // process: how many; size: files
	cel.Variable("users", list),              // process: who they run as; port: programs that listen
	cel.Variable("age", cel.IntType),         // process: of the youngest, in seconds
	cel.Variable("listeners", list),          // port: addresses
	cel.Variable("content", cel.StringType),  // file: at most 64 KiB
	cel.Variable("mode", cel.StringType),     // file: octal, such as 640
	cel.Variable("owner", cel.StringType),    // file
	cel.Variable("group", cel.StringType),    // file
	cel.Variable("kind", cel.StringType),     // file: in the words of stat(1); empty where there is none
	cel.Variable("readable", cel.BoolType),   // file: by the user named with as=
	cel.Variable("bytes", cel.IntType),       // size: taken on disk; file: length
	cel.Variable("exit", cel.IntType),        // command
	cel.Variable("output", cel.StringType),   // command: at most 64 KiB

	cel.Variable("answer", anything),      // all of the answer, by the names above
	cel.Variable("earlier", anything),     // the probe's own answer before the change
	cel.Variable("values", texts),         // those that the change names
	cel.Variable("value", cel.StringType), // in-force checks of settings: what is set
	cel.Function("amount", cel.Overload("amount_string", []*cel.Type{cel.StringType}, cel.IntType, cel.UnaryBinding(amount))),
)

// Program is a compiled expression.
type Program struct {
	Source string
	Names  []string // the variables that it uses, sorted
	// Whole tells that it speaks of answer and earlier in answer == earlier alone, or in
	// answer != earlier: it learns nothing but whether they differ.
	Whole   bool
	program cel.Program
}

// compiled keeps programs by what they were compiled from: the same few sources
// judge every answer of every host. A program may be used by many at once.
var compiled = cache.New[compiledKey, *Program](maxCompiled)

type compiledKey struct {
	env    *cel.Env
	kind   Kind
	source string
}

// maxCompiled bounds how many are kept.
const maxCompiled = 4096

// Compile checks source against the variables; errors name line and column.
func Compile(source string, v Vars, kind Kind) (*Program, error) {
	if v.err != nil {
		return nil, v.err
	}
	key := compiledKey{v.env, kind, source}
	if p, ok := compiled.Get(key); ok {
		return p, nil
	}
	p, err := compile(source, v, kind)
	if err == nil {
		compiled.Put(key, p)
	}
	return p, err
}

// Holds compiles a condition over the variables, and tells whether it is true of values.
func Holds(source string, v Vars, values map[string]any) (bool, error) {
	p, err := Compile(source, v, Bool)
	if err != nil {
		return false, err
	}
	return p.Bool(values)
}

func compile(source string, v Vars, kind Kind) (*Program, error) {
	if strings.TrimSpace(source) == "" {
		return nil, errors.New("the expression is empty")
	}
	tree, issues := v.env.Compile(source)
	if err := issues.Err(); err != nil {
		if Modern(source) != source {
			return nil, fmt.Errorf("expression %q: %s is called %s now", source, oldFamily, newFamily)
		}
		first := issues.Errors()[0]
		what, _, _ := strings.Cut(first.Message, " expecting ") // the list of all tokens helps nobody
		return nil, fmt.Errorf("expression %q, column %d: %s", source, first.Location.Column()+1, what)
	}
	switch out := tree.OutputType(); {
	case kind == Bool && !out.IsExactType(cel.BoolType):
		return nil, fmt.Errorf("expression %q gives %s; want true or false", source, out)
	case kind == List && !out.IsExactType(list) && !out.IsExactType(cel.ListType(cel.DynType)):
		return nil, fmt.Errorf("expression %q gives %s; want a list of texts", source, out)
	case kind == Scalar && !out.IsExactType(cel.IntType) && !out.IsExactType(cel.StringType) && !out.IsExactType(cel.DoubleType):
		return nil, fmt.Errorf("expression %q gives %s; want a number or a text", source, out)
	}
	program, err := v.env.Program(tree, cel.CostLimit(costLimit))
	if err != nil {
		return nil, fmt.Errorf("expression %q: %w", source, err)
	}
	names := map[string]bool{}
	for _, ref := range tree.NativeRep().ReferenceMap() {
		if ref.Name != "" && len(ref.OverloadIDs) == 0 && ref.Value == nil {
			names[ref.Name] = true
		}
	}
	return &Program{source, slices.Sorted(maps.Keys(names)), whole(tree.NativeRep().Expr()), program}, nil
}

// whole tells whether answer and earlier stand nowhere but held against each other.
func whole(of ast.Expr) bool {
	all, held := 0, 0
	ours := func(e ast.Expr) bool {
		return e.Kind() == ast.IdentKind && (e.AsIdent() == "answer" || e.AsIdent() == "earlier")
	}
	ast.PostOrderVisit(of, ast.NewExprVisitor(func(e ast.Expr) {
		if ours(e) {
			all++
		}
		if e.Kind() == ast.CallKind && (e.AsCall().FunctionName() == "_==_" || e.AsCall().FunctionName() == "_!=_") {
			if args := e.AsCall().Args(); len(args) == 2 && ours(args[0]) && ours(args[1]) {
				held += 2
			}
		}
	}))
	return all == held
}

// What a host's family of distributions is called, and was once.
const (
	oldFamily = "os_family"
	newFamily = "family"
)

// Modern gives an expression over hosts that was stored under an older name in
// the names of now.
func Modern(source string) string {
	tree, issues := HostVars.env.Parse(source)
	if issues.Err() != nil {
		return source
	}
	var at []int32
	info := tree.NativeRep().SourceInfo()
	ast.PostOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if where, ok := info.GetOffsetRange(e.ID()); ok && e.Kind() == ast.IdentKind && e.AsIdent() == oldFamily {
			at = append(at, where.Start)
		}
	}))
	slices.Sort(at)
	runes := []rune(source) // what offsets count
	for _, start := range slices.Backward(slices.Compact(at)) {
		runes = slices.Replace(runes, int(start), int(start)+len(oldFamily), []rune(newFamily)...)
	}
	return string(runes)
}

// Bool evaluates a deciding expression.
func (p *Program) Bool(values map[string]any) (bool, error) {
	out, err := p.eval(values)
	if err != nil {
		return false, err
	}
	return out.Value() == true, nil
}

// Scalar evaluates a computing expression and writes its result as text.
func (p *Program) Scalar(values map[string]any) (string, error) {
	out, err := p.eval(values)
	if err != nil {
		return "", err
	}
	switch v := out.Value().(type) {
	case int64:
		return strconv.FormatInt(v, 10), nil
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), nil
	case string:
		return v, nil
	}
	return "", fmt.Errorf("expression %q gave %s; want a number or a text", p.Source, out.Type().TypeName())
}

// Texts evaluates an expression that gives a list.
func (p *Program) Texts(values map[string]any) ([]string, error) {
	out, err := p.eval(values)
	if err != nil {
		return nil, err
	}
	items, ok := out.(traits.Lister)
	if !ok {
		return nil, fmt.Errorf("expression %q gave %s; want a list of texts", p.Source, out.Type().TypeName())
	}
	all := []string{}
	for it := items.Iterator(); it.HasNext() == types.True; {
		text, ok := it.Next().Value().(string)
		if !ok {
			return nil, fmt.Errorf("expression %q gave a list that holds more than texts", p.Source)
		}
		all = append(all, text)
	}
	return all, nil
}

func (p *Program) eval(values map[string]any) (ref.Val, error) {
	out, _, err := p.program.Eval(values)
	if err != nil {
		return nil, fmt.Errorf("expression %q: %w", p.Source, err)
	}
	return out, nil
}

// Host is what expressions know of a host.
type Host struct {
	Name   string
	Labels map[string]string
	Traits Traits
}

// Traits are what a survey found on a host.
type Traits struct {
	OS        string `json:"os"`     // the distribution's ID of os-release(5)
	Family    string `json:"family"` // of distributions: debian, redhat, …: ID_LIKE's first word, else ID
	OSVersion string `json:"os_version"`
	Kernel    string `json:"kernel"`
	Arch      string `json:"arch,omitempty"` // in the words of uname(1), such as x86_64
	Cores     int64  `json:"cores"`
	Memory    int64  `json:"memory"`           // bytes
	Uptime    int64  `json:"uptime,omitempty"` // seconds
	Clock     int64  `json:"clock,omitempty"`  // by how many seconds the host's clock is ahead of the server's
	// Units are those of the patterns that definitions name which the service manager has
	// loaded, Paths likewise those that are there, and Packages the versions of packages.
	Units    []string          `json:"units,omitempty"`
	Paths    []string          `json:"paths,omitempty"`
	Packages map[string]string `json:"packages,omitempty"`
	Limits   map[string]Limits `json:"limits,omitempty"` // of those units
}

// Limits are what the service manager allows a unit; 0 is not known.
type Limits struct {
	Files  int64  `json:"files,omitempty"`  // open at a time, in one process
	Memory int64  `json:"memory,omitempty"` // bytes
	User   string `json:"user,omitempty"`   // as whom it is started; empty is root
	Binds  bool   `json:"binds,omitempty"`  // it may listen on any port, whoever starts it
	Ports  int64  `json:"ports,omitempty"`  // the first port on which everybody may listen
}

// Unlimited stands for no limit.
const Unlimited = int64(1) << 50

// Of gives the limits as rules know them: memory is at most the host's.
func (t Traits) Of(unit string) map[string]int64 {
	l := t.Limits[unit]
	if l.Memory == 0 || t.Memory > 0 && l.Memory > t.Memory {
		l.Memory = t.Memory
	}
	return map[string]int64{"files": l.Files, "memory": l.Memory}
}

// Vars gives the values for HostVars.
func (h Host) Vars() map[string]any {
	return map[string]any{
		"name": h.Name, "labels": defaulted{types.NewStringStringMap(types.DefaultTypeAdapter, h.Labels)},
		"os": h.Traits.OS, "family": h.Traits.Family, "os_version": h.Traits.OSVersion, "arch": h.Traits.Arch,
		"cores": h.Traits.Cores, "memory": h.Traits.Memory, "units": h.Traits.Units, "packages": Texts(h.Traits.Packages),
	}
}

// defaulted is a map of texts in which a missing key reads as empty, so that an
// expression over labels is false, and no error, for a host without the label.
type defaulted struct{ traits.Mapper }

func (d defaulted) Find(key ref.Val) (ref.Val, bool) { return d.Get(key), true }

func (d defaulted) Get(key ref.Val) ref.Val {
	if v, found := d.Mapper.Find(key); found {
		return v
	}
	return types.String("")
}

// Lookup is a map whose values are found when they are asked for. find gives an empty
// value for a name that does not exist; its error ends the evaluation.
func Lookup(find func(name string) (value any, there bool, err error)) any {
	return lookup{types.NewStringStringMap(types.DefaultTypeAdapter, nil), find}
}

type lookup struct {
	traits.Mapper
	find func(name string) (value any, there bool, err error)
}

func (l lookup) Find(key ref.Val) (ref.Val, bool) { return l.Get(key), true }

func (l lookup) Get(key ref.Val) ref.Val {
	name, _ := key.Value().(string)
	v, _, err := l.find(name)
	if err != nil {
		return types.NewErr("%v", err)
	}
	return types.DefaultTypeAdapter.NativeToValue(v)
}

func (l lookup) Contains(key ref.Val) ref.Val {
	name, _ := key.Value().(string)
	_, there, err := l.find(name)
	if err != nil {
		return types.NewErr("%v", err)
	}
	return types.Bool(there)
}

// Texts wraps a map of texts so that missing keys read as empty.
func Texts(m map[string]string) any {
	return defaulted{types.NewStringStringMap(types.DefaultTypeAdapter, m)}
}

// Uses tells whether the expression speaks of a variable.
func (p *Program) Uses(name string) bool { return slices.Contains(p.Names, name) }
