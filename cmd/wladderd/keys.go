package main

import (
	"context"
	"fmt"
	"strings"

	"wladder/host"
)

var showKey = command{"show-key", "", "print the public key with which the server signs in to hosts", plain(func(_ context.Context, t *terminal, c config) error {
	h, err := dataKeys(c)
	if err != nil {
		return err
	}
	fmt.Fprint(t.out, host.PublicKey(h.dialer.Signer))
	for _, other := range h.dialer.Credentials {
		fmt.Fprintf(t.out, "%s %s\n", strings.TrimSpace(host.PublicKey(other.Signer)), other.Name)
	}
	return nil
})}

var showRecordKey = command{"show-record-key", "", "print the public key of the record's checkpoints, to check an export with", plain(func(_ context.Context, t *terminal, c config) error {
	h, err := dataKeys(c)
	if err != nil {
		return err
	}
	fmt.Fprintln(t.out, h.keys.Current.RecordKey())
	return nil
})}

var configCommand = command{"config", "", "print the configuration in force, as a file of it, with every key explained", plain(func(_ context.Context, t *terminal, c config) error {
	printConfig(t.out, &c)
	return nil
})}
