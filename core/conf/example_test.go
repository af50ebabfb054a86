package conf_test

import (
	"fmt"

	"wladder/core/conf"
)

func Example() {
	doc, err := conf.Parse("nginx.conf", conf.Nginx, []byte("events {\n    worker_connections 768; # per worker\n}\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	edited, err := doc.Apply(conf.Edit{Do: conf.Set, Address: "events/worker_connections", To: conf.Text("4096")})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Print(string(edited.Bytes()))
	for _, a := range conf.Compare(doc, edited) {
		fmt.Printf("%s: %s → %s\n", a.Address, a.Old, a.New)
	}
	// Output:
	// events {
	//     worker_connections 4096; # per worker
	// }
	// events/worker_connections: 768 → 4096
}

func ExampleDocument_Settings() {
	doc, _ := conf.Parse("sshd_config", conf.SSHD, []byte("#Port 22\nMatch User relay\n    PasswordAuthentication no\n"))
	for _, s := range doc.Settings() {
		fmt.Println(s.Line, s.Address, s.Value, s.CommentedOut)
	}
	// Output:
	// 1 Port 22 true
	// 3 Match["User relay"]/PasswordAuthentication no false
}
