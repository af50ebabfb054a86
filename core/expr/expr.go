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

// Bool expressions decide; Scalar ones compute a text, a number or a boolean.
const (
	Bool Kind = iota
	Scalar
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
)

// HostVars are the labels and traits of a host. A label that a host has not is
// the empty text; memory is in bytes.
var HostVars = vars(
	cel.Variable("name", cel.StringType),
	cel.Variable("labels", texts),
	cel.Variable("os", cel.StringType),
	cel.Variable("family", cel.StringType),
	cel.Variable("os_version", cel.StringType),
	cel.Variable("cores", cel.IntType),
	cel.Variable("memory", cel.IntType),
	cel.Function("min", cel.Overload("min_int_int", []*cel.Type{cel.IntType, cel.IntType}, cel.IntType,
		cel.BinaryBinding(func(a, b ref.Val) ref.Val { return pick(a, b, types.IntNegOne) }))),
	cel.Function("max", cel.Overload("max_int_int", []*cel.Type{cel.IntType, cel.IntType}, cel.IntType,
		cel.BinaryBinding(func(a, b ref.Val) ref.Val { return pick(a, b, types.IntOne) }))),
)

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
)

// Program is a compiled expression.
type Program struct {
	Source  string
	Names   []string // the variables that it uses, sorted
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
	return &Program{source, slices.Sorted(maps.Keys(names)), program}, nil
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
	Cores     int64  `json:"cores"`
	Memory    int64  `json:"memory"` // bytes
}

// Vars gives the values for HostVars.
func (h Host) Vars() map[string]any {
	return map[string]any{
		"name": h.Name, "labels": defaulted{types.NewStringStringMap(types.DefaultTypeAdapter, h.Labels)},
		"os": h.Traits.OS, "family": h.Traits.Family, "os_version": h.Traits.OSVersion,
		"cores": h.Traits.Cores, "memory": h.Traits.Memory,
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

// Texts wraps a map of texts so that missing keys read as empty.
func Texts(m map[string]string) any {
	return defaulted{types.NewStringStringMap(types.DefaultTypeAdapter, m)}
}
