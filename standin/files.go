package standin

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// node is a file, directory or link in memory. Contents are replaced as a
// whole and never changed in place, so copies may share them.
type node struct {
	mode         fs.FileMode // with type bits
	owner, group string
	data         []byte
	kids         map[string]*node
	target       string
	links        int
	changed      time.Time
}

// Files is a file system in memory.
type Files struct {
	mu      sync.Mutex
	root    *node
	dynamic func(name string) ([]byte, bool) // files that are made when opened, below /proc
	mounted []string                         // what something was laid over, in a copy, and how: PATH rw
	numbers func() []string                  // the processes that /proc lists
	full    atomic.Bool                      // no byte more can be written
	clock   atomic.Int64                     // by how many nanoseconds the host's clock is fast
}

func (f *Files) now() time.Time { return time.Now().Add(time.Duration(f.clock.Load())) }

func directory(mode fs.FileMode) *node {
	return &node{mode: fs.ModeDir | mode, owner: "root", group: "root", kids: map[string]*node{}, links: 1, changed: time.Now()}
}

// NewFiles makes a file system of the given files, by absolute path, all root's
// with mode 0644 (0755 for directories).
func NewFiles(image map[string]string) *Files {
	f := &Files{root: directory(0o755)}
	for name, text := range image {
		f.mkdirs(path.Dir(name))
		f.Write(name, []byte(text))
	}
	for _, dir := range []string{"/run", "/var/lib", "/var/log", "/etc", "/tmp", "/proc"} {
		f.mkdirs(dir)
	}
	return f
}

func (f *Files) mkdirs(dir string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	at := f.root
	for _, name := range split(dir) {
		if at.kids[name] == nil {
			at.kids[name] = directory(0o755)
		}
		at = at.kids[name]
	}
}

func split(name string) []string {
	name = strings.Trim(path.Clean("/"+name), "/")
	if name == "" {
		return nil
	}
	return strings.Split(name, "/")
}

// clone copies everything, as a mount namespace of its own would see it.
func (f *Files) clone() *Files {
	f.mu.Lock()
	defer f.mu.Unlock()
	seen := map[*node]*node{}
	return &Files{root: f.root.copy(seen), dynamic: f.dynamic, numbers: f.numbers}
}

func (n *node) copy(seen map[*node]*node) *node {
	if c := seen[n]; c != nil {
		return c
	}
	c := *n
	seen[n] = &c
	if n.kids != nil {
		c.kids = make(map[string]*node, len(n.kids))
		for name, kid := range n.kids {
			c.kids[name] = kid.copy(seen)
		}
	}
	return &c
}

// find walks to a name. dir and base are where it is, or would be; resolved is
// its name with all links followed. The caller holds the lock.
func (f *Files) find(name string, follow bool) (n, dir *node, base, resolved string, err error) {
	parts := split(name)
	at, walked := f.root, []string{}
	for hops := 0; ; {
		if len(parts) == 0 {
			return at, nil, "", "/" + strings.Join(walked, "/"), nil
		}
		if at.kids == nil {
			return nil, nil, "", "", fs.ErrNotExist
		}
		next := at.kids[parts[0]]
		last := len(parts) == 1
		if next != nil && next.mode&fs.ModeSymlink != 0 && (!last || follow) {
			if hops++; hops > 40 {
				return nil, nil, "", "", fs.ErrInvalid
			}
			target := next.target
			if !path.IsAbs(target) {
				target = "/" + strings.Join(walked, "/") + "/" + target
			}
			parts = append(split(target), parts[1:]...)
			at, walked = f.root, nil
			continue
		}
		if last {
			resolved = "/" + strings.Join(append(walked, parts[0]), "/")
			if next == nil {
				return nil, at, parts[0], resolved, fs.ErrNotExist
			}
			return next, at, parts[0], resolved, nil
		}
		if next == nil {
			return nil, nil, "", "", fs.ErrNotExist
		}
		walked, at, parts = append(walked, parts[0]), next, parts[1:]
	}
}

// made gives a file that is made when it is opened.
func (f *Files) made(name string) ([]byte, bool) {
	if name == "/proc/self/mountinfo" { // proc_pid_mountinfo(5)
		f.mu.Lock()
		defer f.mu.Unlock()
		text := []byte("1 0 0:1 / / ro,relatime - ext4 standin ro\n")
		for _, at := range f.mounted {
			text = fmt.Appendf(text, "2 1 0:2 / %s,relatime - tmpfs wladder rw\n", at)
		}
		return text, true
	}
	if f.dynamic == nil {
		return nil, false
	}
	return f.dynamic(name)
}

// Read gives a file's contents.
func (f *Files) Read(name string) ([]byte, error) {
	if data, ok := f.made(path.Clean(name)); ok {
		return data, nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	n, _, _, _, err := f.find(name, true)
	if err != nil || n.kids != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return n.data, nil
}

// Write replaces a file's contents, keeping owner and mode, or makes the file.
func (f *Files) Write(name string, data []byte) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, dir, base, _, err := f.find(name, true)
	switch {
	case f.full.Load() && len(data) > 0:
		return &fs.PathError{Op: "write", Path: name, Err: syscall.ENOSPC}
	case n != nil && n.kids == nil:
	case n == nil && dir != nil:
		n = &node{mode: 0o644, owner: "root", group: "root", links: 1}
		dir.kids[base] = n
	default:
		return &fs.PathError{Op: "open", Path: name, Err: err}
	}
	n.data, n.changed = append([]byte(nil), data...), f.now()
	return nil
}

// Remove takes a name away, where it is there.
func (f *Files) Remove(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n, dir, base, _, err := f.find(name, false); err == nil && dir != nil {
		n.links--
		delete(dir.kids, base)
	}
}

// Stat describes a file in the words of stat(1): mode, owner, group, kind.
func (f *Files) Stat(name string) (mode fs.FileMode, owner, group string, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, _, _, _, err := f.find(name, true)
	if err != nil {
		return 0, "", "", err
	}
	return n.mode, n.owner, n.group, nil
}

// Own sets owner, group and mode, as an image needs it.
func (f *Files) Own(name, owner, group string, mode fs.FileMode) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n, _, _, _, err := f.find(name, true); err == nil {
		n.owner, n.group, n.mode = owner, group, n.mode&^fs.ModePerm|mode
	}
}

// Age has a file or directory look as if it was last changed so long ago.
func (f *Files) Age(name string, by time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n, _, _, _, err := f.find(name, true); err == nil {
		n.changed = time.Now().Add(-by)
	}
}

// List names all files below a directory, sorted.
func (f *Files) List(dir string) []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []string
	var walk func(n *node, at string)
	walk = func(n *node, at string) {
		for name, kid := range n.kids {
			if kid.kids != nil {
				walk(kid, path.Join(at, name))
			} else {
				all = append(all, path.Join(at, name))
			}
		}
	}
	if n, _, _, _, err := f.find(dir, true); err == nil {
		walk(n, dir)
	}
	sort.Strings(all)
	return all
}

// info is a node as the shell sees it.
type info struct {
	name string
	n    *node
}

func (i info) Name() string               { return i.name }
func (i info) Size() int64                { return int64(len(i.n.data)) }
func (i info) Mode() fs.FileMode          { return i.n.mode }
func (i info) ModTime() time.Time         { return i.n.changed }
func (i info) IsDir() bool                { return i.n.kids != nil }
func (i info) Sys() any                   { return nil }
func (i info) Type() fs.FileMode          { return i.n.mode.Type() }
func (i info) Info() (fs.FileInfo, error) { return i, nil }

func (f *Files) stat(name string, follow bool) (fs.FileInfo, error) {
	if data, ok := f.made(path.Clean(name)); ok {
		return info{path.Base(name), &node{mode: 0o444, data: data, links: 1}}, nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	n, _, _, _, err := f.find(name, follow)
	if err != nil {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	c := *n
	return info{path.Base(name), &c}, nil
}

func (f *Files) readDir(name string) ([]fs.DirEntry, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, _, _, _, err := f.find(name, true)
	if err != nil || n.kids == nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	var all []fs.DirEntry
	for name, kid := range n.kids {
		all = append(all, info{name, kid})
	}
	if f.numbers != nil && path.Clean(name) == "/proc" {
		for _, pid := range f.numbers() {
			all = append(all, info{pid, directory(0o555)})
		}
	}
	sort.Slice(all, func(i, k int) bool { return all[i].Name() < all[k].Name() })
	return all, nil
}

// handle is an open file. What is written shows at once.
type handle struct {
	files *Files
	name  string
	read  *strings.Reader
	wrote []byte
}

func (h *handle) Read(p []byte) (int, error) {
	if h.read == nil {
		return 0, io.EOF
	}
	return h.read.Read(p)
}

func (h *handle) Write(p []byte) (int, error) {
	h.wrote = append(h.wrote, p...)
	return len(p), h.files.Write(h.name, h.wrote)
}

func (h *handle) Close() error { return nil }
