package plan_test

import (
	"fmt"

	"wladder/core/plan"
)

func ExampleDigest() {
	leaf, _, err := plan.Frozen(plan.Leaf{HostID: 7, Host: "bulletin-delta-01"})
	if err != nil {
		fmt.Println(err)
		return
	}
	_, head, err := plan.Frozen(plan.Head{Version: plan.Version, Change: 5, Hosts: 1})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(len(plan.Digest(head, []string{leaf})), plan.Digest(head, []string{leaf}) == plan.Digest(head, nil))
	// Output: 64 false
}
