package ladder_test

import (
	"fmt"

	"wladder/core/ladder"
)

// A host whose link dropped while a file was put in place is looked at before
// anything else is done to it.
func ExampleAfter() {
	at := ladder.After(ladder.Place, ladder.Lost)
	fmt.Println(at.State, at.Step)
	at = ladder.Recover(ladder.Place, ladder.FilesNew, ladder.ProcessOld)
	fmt.Println(at.State, at.Step)
	// Output:
	// unknown look
	// working act
}

func ExampleDecide() {
	policy, _ := ladder.Policy{Stages: []ladder.Stage{{Count: 1}, {Percent: 100}}, AtOnce: 2}.Defaulted()
	climb := ladder.Climb{State: ladder.Running, Policy: policy, Runs: []ladder.Run{
		{ID: 1, Stage: 0, State: ladder.Done}, {ID: 2, Stage: 1, State: ladder.Soaking}, {ID: 3, Stage: 1, State: ladder.Queued}, {ID: 4, Stage: 1, State: ladder.Queued},
	}}
	fmt.Println(ladder.Decide(climb).Start)
	// Output: [3]
}
