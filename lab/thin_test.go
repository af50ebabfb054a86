package lab

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/ladder"
)

// thin says no more of a database than where its file is, and how it is restarted.
const thin = `
service: database
title: Database
where: labels.role == "bulletin"
unit: mariadb.service
files: {main: {format: mysql, paths: {any: /etc/mysql/mariadb.conf.d/60-office.cnf}}}
acts: [{name: restart, command: [systemctl, restart, mariadb.service], timeout: 2m}]
settings: [{address: mysqld/slow_query_log_file, type: path}]
probes: [{name: runs, ask: unit mariadb.service, expect: state == "active"}]
`

// TestInsideThin has a definition without a check of its own be filled in: the database is
// asked for the very value, where it lets itself be asked.
func TestInsideThin(t *testing.T) {
	needInside(t)
	if !*every {
		t.Skip("in the long run")
	}
	t.Parallel()
	const n = 130
	r := newRig(t, []int{n}, thin)
	r.on(n, "printf '[mysqld]\ntable_open_cache = 800\n' >/etc/mysql/mariadb.conf.d/60-office.cnf && systemctl start mariadb")
	d, id := r.draft("database", "  - {set: mysqld/table_open_cache, to: 1800}", "")
	d = r.climb(id)
	r.wants(d, n, ladder.Done, "")
	if run := r.run(d, n); run.Proof != ladder.ProofInForce {
		t.Errorf("it rests on %s", run.Proof)
	}
	// What a value names may be closed to the user as whom the database runs.
	r.on(n, "touch /etc/mysql/closed.log /etc/mysql/open.log && chmod 600 /etc/mysql/closed.log")
	for file, want := range map[string]bool{"closed": true, "open": false} {
		d, _ := r.draft("database", "  - {set: mysqld/slow_query_log_file, to: /etc/mysql/"+file+".log}", "")
		if said := fmt.Sprint(d.Rehearsal.Groups); strings.Contains(said, "path-unreadable") != want {
			t.Errorf("%s: %s", file, said)
		}
	}
	// It lowers this one by itself, without a word.
	_, id = r.draft("database", "  - {set: mysqld/max_connections, to: 90000}", "")
	r.wants(r.climb(id), n, ladder.Restored, "mysqld/max_connections in force")
	// Where root may not ask it, the rest has to do, and that is said.
	r.on(n, `mariadb -e "alter user root@localhost identified by 'drift-Ice'"`)
	d, id = r.draft("database", "  - {set: mysqld/table_open_cache, to: 1900}", "")
	if said := fmt.Sprint(d.Rehearsal.Groups); !strings.Contains(said, "whether mysqld/table_open_cache in force is well is not asked: the database does not say") {
		t.Error(said)
	}
	d = r.climb(id)
	r.wants(d, n, ladder.Done, "")
	if run := r.run(d, n); run.Proof != ladder.ProofProbes {
		t.Errorf("it rests on %s", run.Proof)
	}
}
