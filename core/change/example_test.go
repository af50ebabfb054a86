package change_test

import (
	"fmt"

	"wladder/core/change"
)

func ExampleNext() {
	fmt.Println(change.Next(change.Offered, change.Approval))
	fmt.Println(change.Next(change.Draft, change.ClimbStarted))
	// Output:
	// approved true
	// draft false
}
