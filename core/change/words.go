package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Words says in a line what the edit does, for whoever judges it; on which hosts is said by
// Where. Texts of several lines are told by their first, and how many follow.
func (e Edit) Words() string {
	text := e.deed()
	if e.Through != "" {
		text += " through " + quote(e.Through)
	}
	if e.Lines {
		text += ", by these lines of text"
	}
	if e.Every.Most > 0 {
		text += fmt.Sprintf(", in %s", places(e.Every))
	}
	if e.NewBlock {
		text += ", with the blocks that are missing"
	}
	text += e.Each.words()
	if e.File != "" && e.Verb() != "mode" {
		text += ", in file " + e.File
	}
	return text
}

func places(e Every) string {
	switch {
	case e.Least != e.Most:
		return fmt.Sprintf("%d to %d places", e.Least, e.Most)
	case e.Most == 1:
		return "exactly 1 place"
	}
	return fmt.Sprintf("exactly %d places", e.Most)
}

func (e Edit) deed() string {
	switch e.Verb() {
	case "set":
		return fmt.Sprintf("set %s to %s", e.Set, e.value())
	case "add":
		beside := ""
		switch {
		case e.Above != "":
			beside = ", above " + quote(e.Above)
		case e.Below != "":
			beside = ", below " + quote(e.Below)
		}
		return fmt.Sprintf("add %s to the list %s%s", quote(e.Add), e.Document().Address, beside)
	case "take":
		return fmt.Sprintf("take %s from the list %s", quote(e.Take), e.From)
	case "remove":
		return "remove " + e.Remove
	case "comment-out":
		return "comment out " + e.CommentOut
	case "uncomment":
		return "uncomment " + e.Uncomment
	case "insert":
		return fmt.Sprintf("insert %s %s", quote(e.Insert), e.place())
	case "replace":
		return fmt.Sprintf("replace %s with %s", quote(e.Replace), quote(e.With))
	case Within:
		return fmt.Sprintf("move %s %s", e.Move, e.place())
	case "put":
		return fmt.Sprintf("put the whole file %s: %s%s", e.Put, quote(*e.Text), e.owned())
	case "delete":
		return "delete the file " + e.Delete
	case "move":
		return fmt.Sprintf("move the file %s onto %s", e.Move, e.Onto)
	case "link":
		return fmt.Sprintf("make %s a link to %s", e.Link, quote(e.Leads))
	case "make":
		return fmt.Sprintf("make the file %s on the host", e.Make)
	case "mode":
		return fmt.Sprintf("give the file %s%s", e.File, e.owned())
	}
	return ""
}

// place says where a text or entry goes.
func (e Edit) place() string {
	switch {
	case e.Into != nil && *e.Into == "":
		return "into the file"
	case e.Into != nil:
		return "into " + *e.Into
	case e.Above != "":
		return "above " + e.Above
	case e.Below != "":
		return "below " + e.Below
	}
	return "instead of " + quote(e.InsteadOf)
}

// owned says who a file is to belong to.
func (e Edit) owned() (text string) {
	for _, part := range [][2]string{{"mode", e.Mode}, {"owner", e.Owner}, {"group", e.Group}} {
		if part[1] != "" {
			text += fmt.Sprintf(", %s %s", part[0], part[1])
		}
	}
	if e.Verb() == "mode" {
		return strings.Replace(text, ",", "", 1)
	}
	return text
}

// value says what a setting is set to, and where that comes from.
func (e Edit) value() string {
	switch {
	case e.To != nil:
		return quote(e.To.Joined())
	case e.Compute != "":
		return "what " + e.Compute + " comes to"
	case e.Secret != "":
		return "the secret " + e.Secret
	case e.Secrets != nil:
		return e.table(func(key string) string { return "the secret " + e.Secrets[key] }, slices.Sorted(maps.Keys(e.Secrets)))
	}
	return e.table(func(key string) string { return quote(e.Values[key].Joined()) }, slices.Sorted(maps.Keys(e.Values)))
}

// inTable is how many rows of a table are said.
const inTable = 8

func (t Table) table(of func(key string) string, keys []string) string {
	var rows []string
	for _, key := range keys[:min(len(keys), inTable)] {
		rows = append(rows, fmt.Sprintf("%s: %s", key, of(key)))
	}
	if more := len(keys) - inTable; more > 0 {
		rows = append(rows, fmt.Sprintf("%d more", more))
	}
	if t.Otherwise != nil {
		rows = append(rows, "otherwise "+quote(t.Otherwise.Joined()))
	}
	return fmt.Sprintf("a value by %s (%s)", t.By, strings.Join(rows, ", "))
}

func (e Each) words() string {
	switch {
	case e.Items != nil:
		list := strings.Join(e.Items[:min(len(e.Items), inTable)], ", ")
		if more := len(e.Items) - inTable; more > 0 {
			list += fmt.Sprintf(" and %d more", more)
		}
		return ", for each of " + list
	case e.Compute != "":
		return ", for each of what " + e.Compute + " comes to"
	case e.By != "":
		return ", for each of a list by " + e.By
	}
	return ""
}

// quote gives a text in quotes where it would else be read as a part of the sentence.
func quote(text string) string {
	first, rest, more := strings.Cut(strings.TrimRight(text, "\n"), "\n")
	switch {
	case more:
		n := strings.Count(rest, "\n") + 1
		lines := "lines"
		if n == 1 {
			lines = "line"
		}
		return fmt.Sprintf("%q and %d more %s", first, n, lines)
	case text == "" || strings.ContainsAny(text, " \t,;\"'"):
		return fmt.Sprintf("%q", first)
	}
	return first
}

// Words says what the named value is on a host.
func (v Value) Words() string {
	return Edit{To: v.To, Compute: v.Compute, Table: v.Table}.value()
}

// Brought says what happens to services without edits; empty where each has one.
func (s *Spec) Brought() string {
	switch s.IntoForce {
	case "":
		return ""
	case "true":
		return "bring into force what is saved already, where the two differ"
	}
	return fmt.Sprintf("bring into force what is saved already, where the two differ, by %s", s.IntoForce)
}
