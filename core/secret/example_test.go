package secret_test

import (
	"fmt"

	"wladder/core/secret"
)

func ExampleRedactor() {
	r := &secret.Redactor{}
	r.Add("tide-and-ebb")
	fmt.Println(r.Clean("upload_token=tide-and-ebb, password: 12345678"))
	// Output: upload_token=‹secret›, password: ‹secret›
}
