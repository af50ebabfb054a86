package ladder_test

import (
	"fmt"

	"wladder/core/ladder"
)

// A host whose link dropped while a file was put in place is looked at before
// anything else is done to it.
func ExampleRun_Next() {
	r := ladder.Run{State: ladder.Working, Step: ladder.Place, Files: ladder.FilesOld, Places: true, Acts: []bool{true}}
	r = r.Next(ladder.Event{Kind: ladder.Ended, Outcome: ladder.Lost, Note: "the link dropped"}, ladder.Limits{})
	fmt.Println(r.State, r.Step)
	sight := ladder.Sight{Files: ladder.FilesNew, Process: ladder.ProcessOld, Guard: ladder.Pending}
	r = r.Next(ladder.Event{Kind: ladder.Ended, Outcome: ladder.OK, Sight: &sight}, ladder.Limits{})
	fmt.Println(r.State, r.Step)
	// Output:
	// unknown look
	// working act
}

func ExampleDecide() {
	policy, _ := ladder.Policy{Stages: []ladder.Stage{{Count: 1}, {Percent: 100}}, AtOnce: 2}.Defaulted()
	climb := ladder.Climb{State: ladder.Running, Policy: policy, Stage: 1, UnderWay: 1, Done: true}
	fmt.Println(ladder.Decide(climb).Start)
	// Output: 1
}
