package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// TestPlansOfVersion1AreRead reads a plan as the server stored it before plans
// had leaves: under the same digest, in the shapes of today.
func TestPlansOfVersion1AreRead(t *testing.T) {
	text, err := os.ReadFile("testdata/plan-v1.json")
	if err != nil {
		t.Fatal(err)
	}
	head, leaves, err := DecodeV1(text)
	if err != nil || DigestOf(text) != "42f96d8333fe26f36224cca862cc2a72234a56ce834289f97f0606ba30bf14ac" {
		t.Fatalf("%v, digest %s", err, DigestOf(text))
	}
	if head.Version != 1 || head.Change != 5 || head.Hosts != 1 || head.Policy.PauseAfter != 1 || len(head.Policy.Stages) != 1 || len(head.Parts) != 1 {
		t.Errorf("the head: %+v", head)
	}
	part := head.Parts[0]
	if part.Service != "pages" || part.Unit != "nginx.service" || len(part.Probes) != 2 || part.InForce[0].Expect != "renewed > 0" || part.Trial.Command[0] != "nginx" || part.Guard == 0 || part.Heaviest.Name != "restart" {
		t.Errorf("its part: %+v", part)
	}
	leaf := leaves[0]
	if leaf.Host != "b01" || leaf.HostKey == "" || leaf.Login != "" || len(leaf.Parts) != 1 || leaf.Parts[0].Act.Name != "reload" || leaf.Parts[0].Files[0].Candidate.Content == "" {
		t.Errorf("the leaf: %+v", leaf)
	}
}

// TestPlansOfVersion2AreRead has a plan's grants and commands under their old
// names.
func TestPlansOfVersion2AreRead(t *testing.T) {
	head, err := DecodeHead(2, []byte(`{"version":2,"hosts":3,"ladder":{"at_once":4},"parts":[{"service":"pages","unit":"nginx.service","trial":{"command":["nginx","-t"],"needs":["network"]},"commands":{"odd":{"run":["cat","/etc/odd"],"timeout":"10s"}}}]}`))
	if err != nil {
		t.Fatal(err)
	}
	part := head.Parts[0]
	if head.Hosts != 3 || head.Policy.AtOnce != 4 || part.Unit != "nginx.service" || part.Trial.Command[0] != "nginx" || part.Trial.Grants[0] != "network" || part.Commands["odd"].Command[1] != "/etc/odd" || part.Commands["odd"].Timeout == 0 {
		t.Errorf("%+v", head)
	}
}

// full is a head and a leaf with all that they can hold, made by filling each field.
func full(t *testing.T) (Head, Leaf) {
	var head Head
	var leaf Leaf
	fill(reflect.ValueOf(&head).Elem(), "h", 0)
	fill(reflect.ValueOf(&leaf).Elem(), "l", 0)
	head.Version, leaf.Host = Version, "b01"
	return head, leaf
}

// fill gives each field a value of its own, one member to each list and map.
func fill(v reflect.Value, name string, depth int) {
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fill(v.Field(i), name+"."+v.Type().Field(i).Name, depth+1)
			}
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), name, depth+1)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0), name, depth+1)
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		one := reflect.New(v.Type().Elem()).Elem()
		fill(one, name, depth+1)
		v.SetMapIndex(reflect.ValueOf("key").Convert(v.Type().Key()), one)
	case reflect.String:
		v.SetString(name)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(len(name)))
	}
}

// TestEveryByteCounts alters each byte of a stored head and of a stored leaf, in turn: the
// digest is another one, and where it is JSON still, the two are told apart.
func TestEveryByteCounts(t *testing.T) {
	head, leaf := full(t)
	_, storedHead, err := Frozen(head)
	if err != nil {
		t.Fatal(err)
	}
	_, storedLeaf, err := Frozen(leaf)
	if err != nil {
		t.Fatal(err)
	}
	digest := func(head, leaf []byte) string { return Digest(head, []string{DigestOf(leaf), DigestOf([]byte("{}"))}) }
	whole := Frame{storedHead, map[string][]byte{"b01": storedLeaf, "b02": []byte("{}")}}
	was, altered, told := digest(storedHead, storedLeaf), 0, 0
	for n, stored := range [][]byte{storedHead, storedLeaf} {
		for i := range stored {
			other := bytes.Clone(stored)
			other[i] ^= 1
			altered++
			now, frame := digest(other, storedLeaf), Frame{other, whole.Leaves}
			if n == 1 {
				now, frame = digest(storedHead, other), Frame{storedHead, map[string][]byte{"b01": other, "b02": []byte("{}")}}
			}
			if now == was {
				t.Fatalf("byte %d of %d: the digest stays", i, n)
			}
			if i%4 > 0 || !json.Valid(other) { // telling each apart takes long
				continue
			}
			found, err := Compare(whole, frame)
			if told++; err != nil || len(found) != 1 || len(found[0].What) == 0 || (n == 1) != slices.Equal(found[0].Hosts, []string{"b01"}) {
				t.Fatalf("byte %d of %d to %q: %+v, %v", i, n, other[i], found, err)
			}
		}
	}
	if t.Logf("%d bytes altered, %d of them JSON still and told", altered, told); told < 500 {
		t.Errorf("only %d were told", told)
	}
	swapped := Digest(storedHead, []string{DigestOf([]byte("{}")), DigestOf(storedLeaf)})
	fewer, more := Digest(storedHead, []string{DigestOf(storedLeaf)}), Digest(storedHead, []string{DigestOf(storedLeaf), DigestOf([]byte("{}")), DigestOf([]byte("{}"))})
	if swapped == was || fewer == was || more == was {
		t.Error("the digest does not cover which leaves there are, and their order")
	}
}

// TestCompare tells two plans apart as a reviewer reads it.
func TestCompare(t *testing.T) {
	id := func(c string) string { return strings.Repeat(c, 64) }
	leaf := func(stage int, content, act string) []byte {
		return fmt.Appendf(nil, `{"stage":%d,"labels":{"site":"coast"},"parts":[{"part":0,"act":{"name":%q},"files":[{"path":"/etc/a.conf","candidate":{"kind":"file","content":%q,"mode":"644"}}]}]}`, stage, act, id(content))
	}
	old := Frame{[]byte(`{"hosts":5,"ladder":{"at_once":4},"parts":[{"service":"pages","settle":1}]}`), map[string][]byte{"b1": leaf(0, "a", "reload"), "b2": leaf(1, "a", "reload"), "b3": leaf(1, "a", "reload"), "b4": leaf(1, "a", "reload"), "b5": leaf(1, "a", "reload")}}
	new := Frame{[]byte(`{"hosts":5,"ladder":{"at_once":9},"parts":[{"service":"pages","settle":2}]}`), map[string][]byte{"b1": leaf(0, "a", "reload"), "b2": leaf(1, "b", "reload"), "b3": leaf(1, "b", "reload"), "b4": leaf(2, "b", "restart"), "b6": leaf(1, "a", "reload")}}
	got, err := Compare(old, new)
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, d := range got {
		lines = append(lines, fmt.Sprintf("%s %v: %s", d.Kind, d.Hosts, strings.Join(d.What, "; ")))
	}
	want := `head []: ladder, at once: 4 → 9; parts, pages, settle: 1 → 2
altered [b4]: parts, number 1, act, name: "reload" → "restart"; parts, number 1, files, /etc/a.conf, candidate: another content; stage: 1 → 2
gone [b5]: 
added [b6]: 
altered [b2 b3]: parts, number 1, files, /etc/a.conf, candidate: another content`
	if text := strings.Join(lines, "\n"); text != want {
		t.Errorf("%s\nwant\n%s", text, want)
	}
	if got, err := Compare(old, old); err != nil || len(got) != 0 {
		t.Errorf("of the same: %v, %v", got, err)
	}
}
