package conf

import "regexp"

var guesses = []struct {
	pattern *regexp.Regexp
	format  Format
}{
	{regexp.MustCompile(`(^|/)sshd_config($|[^/]*$|\.d/[^/]*\.conf$)`), SSHD},
	{regexp.MustCompile(`nginx|(^|/)(sites-(available|enabled)|snippets)/`), Nginx},
	{regexp.MustCompile(`(^|/)(mysql|mariadb)(/|$|[^/]*\.cnf$)|(^|/)\.?my\.cnf|\.cnf$`), MySQL},
	{regexp.MustCompile(`(^|/)(systemd/(system|user)/|[^/]*\.(service|socket|timer|path|mount|target)(\.d/[^/]*\.conf)?$)|(^|/)(journald|logind|system|resolved|timesyncd|networkd)\.conf`), Systemd},
	{regexp.MustCompile(`\.(ini|cfg)$`), INI},
}
