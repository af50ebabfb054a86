package plan

import (
	"os"
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
