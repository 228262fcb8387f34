// Package keep is the door to what Bellwether keeps in a project, the folder
// .bellwether. A clone or an archive can bring such a folder along, so nothing in it
// counts unless this machine wrote it for this very checkout: what is acted on bears a
// seal, made with a key that lies outside the project. Links in it are not followed.
package keep

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/within"
)

// Dir is the folder's name in a project.
const Dir = ".bellwether"

// The files in it that a project commits, and so may bring along.
const (
	Bridges = "bridges.yaml"
	ToDos   = "todos.yaml"
)

// maxKept bounds a file that is read from the folder, in bytes.
const maxKept = 64 << 20

// Keep is what is kept in one project.
type Keep struct {
	files  *within.Folder // the project's, without links; it may write what is kept
	sealer sealer

	owning sync.Mutex
	owned  *bool // nil before it was looked
}

// In is the keep of a project. state is the person's folder for what programs keep, in
// which the key lies.
func In(project *within.Folder, state string) *Keep {
	return &Keep{files: within.Keeping(project.WithoutLinks()), sealer: sealer{state: state, project: project}}
}

func at(name string) string { return path.Join(Dir, name) }

// ErrForeign is the error of a file that this machine did not write for this checkout.
var ErrForeign = errors.New("it was not written by Bellwether on this machine for this checkout")

// owner is the file by which the folder is known as one that was made here.
const owner = "owner.json"

// Owned tells whether the folder was made by this machine for this checkout.
func (k *Keep) Owned() bool {
	k.owning.Lock()
	defer k.owning.Unlock()
	if k.owned == nil {
		data, err := k.Read(owner)
		is := err == nil && string(data) == k.deed()
		k.owned = &is
	}
	return *k.owned
}

// deed is what the owner's file says: which folder it is about.
func (k *Keep) deed() string {
	info, err := k.files.Lstat(Dir)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("{\n  \"folder\": %q\n}\n", within.Identity(info))
}

// Foreign is what lies in the folder although this machine did not put it there, but
// for what a project shares. It is empty where the folder is ours.
func (k *Keep) Foreign() []string {
	info, err := k.files.Lstat(Dir)
	if err != nil || k.Owned() {
		return nil
	}
	if !info.IsDir() {
		return []string{"the folder itself, which is none"}
	}
	entries, err := k.files.ReadDir(Dir)
	if err != nil {
		return []string{"what cannot be listed"}
	}
	var names []string
	for _, e := range entries {
		if n := e.Name(); n != Bridges && n != ToDos && n != ".gitignore" && n != "lock" && !strings.HasPrefix(n, asidePrefix) {
			names = append(names, n)
		}
	}
	return names
}

// asidePrefix begins the names of folders for what was put aside.
const asidePrefix = "foreign-"

// Prepare makes the folder, out of git's sight, and makes it ours: what somebody else
// put there is moved aside within it, and named.
func (k *Keep) Prepare() (aside string, err error) {
	unusable := func(err error) error {
		next := "make the project's folder writable"
		if errors.Is(err, within.ErrLink) || errors.Is(err, within.ErrOutside) {
			next = "remove it, if it is not yours; Bellwether makes a folder of its own"
		}
		return &model.Fault{Doing: "preparing", File: Dir, Wrong: model.Reason(err), Next: next, Cause: err}
	}
	if info, err := k.files.Lstat(Dir); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return "", unusable(within.ErrLink)
	}
	if err := k.files.MakeFolder(Dir); err != nil {
		return "", unusable(err)
	}
	if k.Owned() {
		return "", k.ignore(unusable)
	}
	if names := k.Foreign(); len(names) > 0 {
		n := 1
		for k.files.Exists(at(asidePrefix + strconv.Itoa(n))) {
			n++
		}
		to := asidePrefix + strconv.Itoa(n)
		if err := k.files.MakeFolder(at(to)); err != nil {
			return "", unusable(err)
		}
		for _, name := range names {
			if err := k.files.Rename(at(name), at(path.Join(to, name))); err != nil {
				return "", unusable(err)
			}
		}
		aside = fmt.Sprintf(
			"what %s held was not written by this machine for this checkout (%s): it is not acted on and lies in %s now; "+
				"bellwether status --adopt takes it back, if it is yours",
			Dir, spelling.Few(names, 3), at(to),
		)
	}
	if err := k.own(); err != nil {
		return "", unusable(err)
	}
	return aside, k.ignore(unusable)
}

// own makes the folder ours.
func (k *Keep) own() error {
	if err := k.Write(owner, []byte(k.deed())); err != nil {
		return err
	}
	k.owning.Lock()
	defer k.owning.Unlock()
	yes := true
	k.owned = &yes
	return nil
}

// ignore keeps the folder out of git's sight, but for what a project shares.
func (k *Keep) ignore(unusable func(error) error) error {
	const ignored = "*\n!" + Bridges + "\n!" + ToDos + "\n"
	if text, err := k.files.ReadFile(at(".gitignore")); err == nil && string(text) == ignored {
		return nil
	}
	if info, err := k.files.Lstat(at(".gitignore")); err == nil && !info.Mode().IsRegular() {
		if err := k.files.RemoveAll(at(".gitignore")); err != nil {
			return unusable(err)
		}
	}
	if err := k.files.Write(at(".gitignore"), []byte(ignored), 0o644); err != nil {
		return unusable(err)
	}
	return nil
}

// Adopt makes what the folder holds count as this checkout's own, because a person says
// so: after the project was moved, say. In a folder that is ours already, it is what was
// put aside last that comes back. It gives the files.
func (k *Keep) Adopt() (names []string, err error) {
	last := 0
	for k.Owned() && k.files.Exists(at(asidePrefix+strconv.Itoa(last+1))) {
		last++
	}
	if last > 0 {
		from := asidePrefix + strconv.Itoa(last)
		entries, err := k.files.ReadDir(at(from))
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if e.Name() == owner || e.Name() == "lock" {
				continue
			}
			if k.files.Exists(at(e.Name())) {
				return nil, &model.Fault{
					Doing: "taking back what was put aside", File: at(path.Join(from, e.Name())),
					Wrong: "there is another " + at(e.Name()) + " now", Next: "move one of the two away",
				}
			}
		}
		for _, e := range entries {
			if err := k.files.Rename(at(path.Join(from, e.Name())), at(e.Name())); err != nil {
				return nil, err
			}
		}
		if err := k.files.RemoveAll(at(from)); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"journey.json", "baseline.json", "ticks.json", "trials.json", "record.json", gitNote, record} {
		if data, err := k.files.ReadAtMost(at(name), maxKept); err == nil {
			if err := k.Write(name, plain(data)); err != nil {
				return nil, err
			}
			names = append(names, name)
		}
	}
	folders := []string{"results"}
	routes, _ := k.files.ReadDir(at("record"))
	for _, r := range routes {
		folders = append(folders, path.Join("record", r.Name()))
	}
	for _, folder := range folders {
		entries, _ := k.files.ReadDir(at(folder))
		for _, e := range entries {
			name := path.Join(folder, e.Name())
			if data, err := k.files.ReadAtMost(at(name), maxKept); err == nil && path.Ext(name) == ".json" {
				if err := k.Write(name, plain(data)); err != nil {
					return nil, err
				}
				names = append(names, name)
			}
		}
	}
	if k.files.Exists(at("route.yaml")) {
		names = append(names, "route.yaml")
	}
	slices.Sort(names)
	return names, k.own()
}

// Read gives a file that bears our seal. The error is fs.ErrNotExist if there is none,
// and ErrForeign if somebody else wrote it.
func (k *Keep) Read(name string) ([]byte, error) {
	data, err := k.files.ReadAtMost(at(name), maxKept)
	if err != nil {
		return nil, err
	}
	return k.sealer.open(name, data)
}

// Write puts a JSON object into a file, with our seal, whole or not at all.
func (k *Keep) Write(name string, object []byte) error {
	data, err := k.sealer.seal(name, object)
	if err != nil {
		return err
	}
	return k.WriteText(name, data)
}

// ReadText gives a file that a person may edit, and that bears no seal therefore. It
// counts only in a folder that is ours.
func (k *Keep) ReadText(name string) ([]byte, error) {
	data, err := k.files.ReadAtMost(at(name), maxKept)
	if err == nil && !k.Owned() {
		return nil, ErrForeign
	}
	return data, err
}

// WriteText puts a text into a file, whole or not at all.
func (k *Keep) WriteText(name string, text []byte) error {
	if err := k.files.MakeFolder(path.Dir(at(name))); err != nil {
		return err
	}
	return k.files.Write(at(name), text, 0o644)
}

// Create makes a file anew that is written bit by bit.
func (k *Keep) Create(name string) (*os.File, error) {
	if err := errors.Join(k.files.MakeFolder(path.Dir(at(name))), k.files.RemoveAll(at(name))); err != nil {
		return nil, err
	}
	return k.files.Create(at(name), 0o644)
}

// Open opens a file for reading.
func (k *Keep) Open(name string) (fs.File, error) { return k.files.Open(at(name)) }

// Exists tells whether there is a file of a name.
func (k *Keep) Exists(name string) bool { return k.files.Exists(at(name)) }

// gitNote remembers a change to the repository while git makes it.
const gitNote = "git.json"

// GitNote is where a change to the repository is noted while git makes it.
func (k *Keep) GitNote() *Note { return &Note{k} }

// Note is the note of a change to the repository. It implements git.Note.
type Note struct{ keep *Keep }

// Exists tells whether a change is noted, whoever noted it.
func (n *Note) Exists() bool { return n.keep.Exists(gitNote) }

// Read gives what is noted, and since when.
func (n *Note) Read() ([]byte, time.Time, error) {
	data, err := n.keep.Read(gitNote)
	if err != nil {
		return nil, time.Time{}, err
	}
	info, err := n.keep.files.Lstat(at(gitNote))
	if err != nil {
		return nil, time.Time{}, err
	}
	return data, info.ModTime(), nil
}

// Write notes a change.
func (n *Note) Write(data []byte) error { return n.keep.Write(gitNote, data) }

// Remove forgets it.
func (n *Note) Remove() error { return n.keep.files.Remove(at(gitNote)) }
