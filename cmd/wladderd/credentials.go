package main

import (
	"errors"
	"fmt"
	"os"
	"slices"

	"github.com/goccy/go-yaml"

	"wladder/core/expr"
	"wladder/host"
)

// credential is an entry of the file of credentials.
type credential struct {
	Name  string `yaml:"name"`
	Where string `yaml:"where"` // over the hosts' names and labels
	Key   string `yaml:"key"`   // a file with a private key
	Agent string `yaml:"agent"` // or the fingerprint of one in the ssh-agent
}

// credentials reads with which keys which hosts are signed in to: of several that fit, the
// first.
func credentials(path string) (all []host.Credential, err error) {
	if path == "" {
		return nil, nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var entries []credential
	if err := yaml.UnmarshalWithOptions(data, &entries, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for i, c := range entries {
		one := host.Credential{Name: c.Name}
		where, err := expr.Compile(c.Where, expr.HostVars, expr.Bool)
		switch {
		case c.Name == "":
			err = errors.New("it has no name")
		case err != nil:
			err = fmt.Errorf("where: %w", err)
		case slices.ContainsFunc(where.Names, func(name string) bool { return name != "name" && name != "labels" }):
			err = errors.New("where: a host's traits are known once it was signed in to; want its name and labels")
		case (c.Key == "") == (c.Agent == ""):
			err = errors.New("want either key, a file, or agent, a fingerprint")
		case c.Key != "":
			if err = private(c.Key); err == nil {
				one.Signer, err = host.ReadSigner(c.Key)
			}
		default:
			one.Signer, err = host.AgentSigner(os.Getenv("SSH_AUTH_SOCK"), c.Agent)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: credential %d (%s): %w", path, i+1, c.Name, err)
		}
		one.Fits = func(t host.Target) bool {
			yes, err := where.Bool(expr.Host{Name: t.Name, Labels: t.Labels}.Vars())
			return err == nil && yes
		}
		all = append(all, one)
	}
	return all, nil
}
