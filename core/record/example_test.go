package record_test

import (
	"encoding/json"
	"fmt"
	"time"

	"wladder/core/record"
)

func ExampleChain() {
	first, _ := record.Seal("", record.Entry{Seq: 1, At: time.Unix(0, 0), Actor: "ines", Kind: "change.drafted", Body: json.RawMessage(`{}`)})
	second, _ := record.Seal(first.Hash, record.Entry{Seq: 2, At: time.Unix(1, 0), Actor: "oda", Kind: "change.approved", Body: json.RawMessage(`{}`)})
	second.Actor = "ines" // as if she had approved it herself
	var chain record.Chain
	fmt.Println(chain.Add(first))
	fmt.Println(chain.Add(second))
	// Output:
	// <nil>
	// entry 2: was altered: its hash is not that of its contents
}
