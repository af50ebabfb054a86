package main

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"wladder/directory"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

// How a part of a check came out.
const (
	well  = "well"
	doubt = "doubt" // it works, and may not for long or not for all
	wrong = "wrong"
)

// result is what was found of one part, and what to do.
type result struct{ state, part, text string }

// Limits below which a server is told that it may not go on for long.
const (
	littleDisk   = 1 << 30 // bytes
	fewFiles     = 4096
	skew         = 2 * time.Second
	certificates = 14 * 24 * time.Hour
)

var check = command{"check", "", "look whether the server can run here, and say what is missing; it changes nothing", plain(func(ctx context.Context, t *terminal, c config) error {
	if printResults(t.out, checked(ctx, c)) {
		return nil
	}
	return errNotWell
})}

// printResults tells what was found, and whether nothing is wrong.
func printResults(w io.Writer, all []result) bool {
	ok := true
	for _, r := range all {
		fmt.Fprintf(w, "%-6s %-13s %s\n", r.state, r.part, strings.ReplaceAll(r.text, "\n", "\n"+strings.Repeat(" ", 21)))
		ok = ok && r.state != wrong
	}
	return ok
}

// checked looks at all parts of what a server needs.
func checked(ctx context.Context, c config) (all []result) {
	add := func(state, part, format string, args ...any) {
		all = append(all, result{state, part, fmt.Sprintf(format, args...)})
	}
	add(well, "configuration", "%s; set: %s", cmp.Or(c.file, "no file"), cmp.Or(strings.Join(slices.Sorted(maps.Keys(c.from)), ", "), "nothing"))

	info, err := os.Stat(c.data)
	switch {
	case errors.Is(err, os.ErrNotExist):
		add(doubt, "data", "%s does not exist; the first start makes it", c.data)
	case err != nil:
		add(wrong, "data", "%v", err)
	default:
		err := checkData(c.data)
		if os.Geteuid() != 0 { // root only looks
			err = errors.Join(err, checkOwner(c.data))
		}
		if err != nil {
			add(wrong, "data", "%v", err)
		} else {
			add(well, "data", "%s, mode %o", c.data, info.Mode().Perm())
		}
	}
	var disk syscall.Statfs_t
	for dir := c.data; ; dir = filepath.Dir(dir) {
		if err := syscall.Statfs(dir, &disk); err == nil {
			free, state := disk.Bavail*uint64(disk.Bsize), well
			if free < littleDisk {
				state = doubt
			}
			add(state, "disk", "%d MiB are free for %s", free>>20, c.data)
			break
		}
		if dir == filepath.Dir(dir) {
			break
		}
	}
	add(checkedKeys(c))
	for _, r := range checkedDatabase(ctx, c) {
		add(r.state, r.part, "%s", r.text)
	}
	add(checkedDoor(ctx, c))
	if c.certificate != "" {
		add(checkedCertificate(c))
	}
	if _, err := credentials(c.credentials); err != nil {
		add(wrong, "credentials", "%v", err)
	}
	if c.directory != nil {
		add(checkedDirectory(ctx, c))
	}
	add(checkedClock())
	var files syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files); err == nil && files.Max < fewFiles {
		add(doubt, "open files", "this process may open %d; each host takes one or two, each person a few; want %d (LimitNOFILE of the unit)", files.Max, fewFiles)
	}
	return all
}

// checkedDirectory asks the directory who it is. Without it people with a password sign in all the same.
func checkedDirectory(ctx context.Context, c config) (state, part, text string) {
	part = "sign-in"
	if err := directory.New(c.directory, slog.New(slog.DiscardHandler)).Check(ctx); err != nil {
		return doubt, part, fmt.Sprintf("%s: %v; only who has a password here can sign in", c.directory.Issuer, err)
	}
	return well, part, fmt.Sprintf("%s answers, and sends people back to %s", c.directory.Issuer, c.directory.Address+directory.BackPath)
}

func checkedKeys(c config) (state, part, text string) {
	part = "keys"
	var there []string
	for _, name := range []string{"key", "ssh_key"} {
		if _, err := os.Stat(filepath.Join(c.data, name)); err == nil {
			there = append(there, name)
		}
	}
	switch {
	case len(there) == 0:
		return doubt, part, "there are none yet; the first start makes them. A second server of a team needs copies of the first one's"
	case len(there) == 1 && there[0] == "key":
		return doubt, part, "ssh_key does not exist; a new one is made, which no host knows"
	case len(there) == 1:
		return wrong, part, fmt.Sprintf("%s does not exist: what the database holds cannot be read without it; take it from the backup", filepath.Join(c.data, "key"))
	}
	signer, err := host.ReadSigner(filepath.Join(c.data, "ssh_key"))
	if err == nil {
		_, err = store.LoadKeys(filepath.Join(c.data, "key"))
	}
	if err != nil {
		return wrong, part, err.Error()
	}
	return well, part, "hosts know this server by " + host.Fingerprint(host.PublicKey(signer))
}

// address gives the URL of a server's database where it can be asked now; empty where the server's
// own does not run.
func (c config) address() (string, error) {
	if c.database != "" {
		return c.database, nil
	}
	if !held(c.data) {
		return "", nil
	}
	return postmaster.Running(filepath.Join(c.data, "postgres"), "wladder")
}

func checkedDatabase(ctx context.Context, c config) []result {
	const part = "database"
	if c.database == "" {
		if bin, err := postmaster.Installed(); err != nil {
			return []result{{wrong, part, err.Error()}}
		} else if _, err := os.Stat(filepath.Join(c.data, "lock")); err != nil {
			return []result{{well, part, "the server runs one of its own, with the programs in " + bin}}
		}
	}
	url, err := c.address()
	if err != nil {
		return []result{{wrong, part, err.Error()}}
	}
	if url == "" {
		return []result{{well, part, "the server runs one of its own; it does not run now"}}
	}
	bounded, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	f, err := store.Look(bounded, url)
	if err != nil {
		return []result{{wrong, part, err.Error()}}
	}
	all := []result{}
	switch {
	case f.Version < 150000:
		all = append(all, result{wrong, part, fmt.Sprintf("PostgreSQL %d; want 15 or newer", f.Version/10000)})
	case f.Migration > f.Known:
		all = append(all, result{doubt, part, fmt.Sprintf("its tables are of a newer version (%d; this program knows %d)", f.Migration, f.Known)})
	case f.Migration == 0 && !f.MayCreate:
		all = append(all, result{wrong, part, "it is empty, and this account may not make tables in it"})
	default:
		all = append(all, result{well, part, fmt.Sprintf("PostgreSQL %d.%d, tables of version %d of %d, %d hosts, %d entries in the record", f.Version/10000, f.Version%10000, f.Migration, f.Known, f.Counts["hosts"], f.Counts["record entries"])})
	}
	if f.Ahead > skew || f.Ahead < -skew {
		all = append(all, result{wrong, "clock", fmt.Sprintf("the database's clock is %s away from this machine's; leases and approvals go by both", f.Ahead.Abs().Round(time.Millisecond))})
	}
	return all
}

// checkedDoor asks whether people could reach the server, or reach it already.
func checkedDoor(ctx context.Context, c config) (state, part, text string) {
	part = "port"
	if !held(c.data) {
		l, err := net.Listen("tcp", c.listen)
		if err != nil {
			return wrong, part, fmt.Sprintf("%v; choose another with listen, or end what has it", err)
		}
		l.Close()
		return well, part, c.listen + " is free"
	}
	bounded, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(bounded, "GET", c.scheme()+"://"+c.listen+"/readyz", nil)
	if err != nil {
		return wrong, part, err.Error()
	}
	// Only whether it answers is asked: its certificate is another part.
	client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	answer, err := client.Do(request)
	if err != nil {
		return wrong, part, fmt.Sprintf("a server works with %s and does not answer on %s: %v", c.data, c.listen, err)
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 1000))
	if answer.StatusCode != 200 {
		return wrong, part, fmt.Sprintf("the server on %s is not ready: %s", c.listen, strings.TrimSpace(string(said)))
	}
	return well, part, "a server answers on " + c.listen + ", and is ready"
}

func checkedCertificate(c config) (state, part, text string) {
	part = "certificate"
	if err := private(c.key); err != nil {
		return wrong, part, err.Error()
	}
	pair, err := tls.LoadX509KeyPair(c.certificate, c.key)
	if err != nil {
		return wrong, part, fmt.Sprintf("%s, %s: %v", c.certificate, c.key, err)
	}
	ends := pair.Leaf.NotAfter
	text = fmt.Sprintf("%s, for %s, ends on %s", c.certificate, strings.Join(pair.Leaf.DNSNames, ", "), ends.UTC().Format("2006-01-02 15:04 MST"))
	switch left := time.Until(ends); {
	case left < 0:
		return wrong, part, text + ": it has ended"
	case left < certificates:
		return doubt, part, text + ": soon"
	}
	return well, part, text
}

// checkedClock asks the kernel whether something keeps the time right: adjtimex(2).
func checkedClock() (state, part, text string) {
	const unsynchronised = 5 // TIME_ERROR
	kernel, err := syscall.Adjtimex(&syscall.Timex{})
	switch {
	case err != nil:
		return doubt, "clock", fmt.Sprintf("the kernel does not say whether the time is kept right: %v", err)
	case kernel == unsynchronised:
		return doubt, "clock", "nothing keeps it right; the record's times and the ends of approvals go by it. On Debian: apt-get install systemd-timesyncd"
	}
	return well, "clock", "it is kept right; " + time.Now().Format("2006-01-02 15:04:05 MST")
}

var underWay = command{"under-way", "", "say what is not to be left alone: climbs that have not ended, hosts that are worked on or wait for a person; status 1 if there is any", plain(func(ctx context.Context, t *terminal, c config) error {
	if _, err := os.Stat(filepath.Join(c.data, "key")); errors.Is(err, os.ErrNotExist) {
		fmt.Fprintf(t.out, "nothing: no server has worked with %s yet\n", c.data)
		return nil
	}
	url, err := c.address()
	if err == nil && url == "" {
		pg, err := postmaster.Start(ctx, postmaster.Config{Dir: filepath.Join(c.data, "postgres")})
		if err != nil {
			return err
		}
		defer pg.Stop()
		url = pg.URL("wladder")
	} else if err != nil {
		return err
	}
	f, err := store.Look(ctx, url)
	if err != nil {
		return err
	}
	for _, id := range f.Climbs {
		fmt.Fprintf(t.out, "change %d: its climb has not ended\n", id)
	}
	for _, name := range f.UnderWay {
		fmt.Fprintf(t.out, "%s: is worked on; its guard is armed, and puts the old files back if no server comes\n", name)
	}
	for _, name := range f.Stranded {
		fmt.Fprintf(t.out, "%s: is stranded, and waits for a person\n", name)
	}
	if len(f.Climbs)+len(f.UnderWay)+len(f.Stranded) > 0 {
		return errNotWell
	}
	fmt.Fprintln(t.out, "nothing")
	return nil
})}
