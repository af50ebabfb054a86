package main

import (
	"fmt"
	"strings"

	"wladder/client"
	"wladder/core/view"
)

var receiversCommand = command{"receivers", "", "who is told of what asks for people, and what waits for each", listing((*client.Client).Receivers, []string{"NAME", "TO", "LAST TOLD", "WAITING", "LOST", "TROUBLE"}, func(r view.Receiver) []string {
	told, trouble := "never", ""
	if r.ToldAt != nil {
		told = when(*r.ToldAt)
	}
	if r.Error != "" {
		trouble = fmt.Sprintf("%s, tried %d times", strings.TrimSpace(plain(r.Error)), r.Tries)
	}
	return []string{r.Name, r.To, told, fmt.Sprint(r.Waiting), fmt.Sprint(r.Lost), trouble}
})}
