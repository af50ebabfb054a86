package change

import (
	"reflect"
	"slices"
	"strings"
)

// Keys lists the keys that a change's YAML may have, by the keys that lead to the mapping that holds
// them: "" is the change itself, "ladder/stages" a stage. They are read off what reads the YAML.
func Keys() map[string][]string {
	all := map[string][]string{}
	keys(all, "", reflect.TypeFor[Spec]())
	return all
}

func keys(all map[string][]string, at string, of reflect.Type) {
	for _, f := range reflect.VisibleFields(of) { // those of a mapping that stands inline among them
		name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		if name == "" || name == "-" {
			continue
		}
		all[at] = append(all[at], name)
		inner := f.Type
		for inner.Kind() == reflect.Pointer || inner.Kind() == reflect.Slice || inner.Kind() == reflect.Map {
			inner = inner.Elem()
		}
		if inner.Kind() == reflect.Struct && slices.ContainsFunc(reflect.VisibleFields(inner), func(f reflect.StructField) bool { return f.Tag.Get("yaml") != "" }) {
			keys(all, strings.TrimPrefix(at+"/"+name, "/"), inner)
		}
	}
}
