package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb"
	"golang.org/x/mod/sumdb/note"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/goenv"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// sumDB checks hashes with the checksum database: a log, signed by its keeper,
// of the hash of every module version (https://go.dev/ref/mod#checksum-database).
type sumDB struct {
	name   string
	asked  []goenv.Proxy // by way of which it may be had, in this order
	own    string        // its own address
	client *sumdb.Client
	ctx    context.Context
	r      *Registry

	mu     sync.Mutex
	latest []byte
	base   string // that answers; empty before the first is asked
	broken error  // why it cannot be asked
	failed error  // what the last request came to, if it was no answer
}

// knownDatabases are the keys of databases that are named without one.
var knownDatabases = map[string]string{
	"sum.golang.org": "sum.golang.org+033de0ae+Ac4zctda0e5eza+HJyk9SxEdh+s3Ux18htTTAD8OuAn8",
}

// SumDB gives the checksum database that GOSUMDB names; nil if it is off.
func (r *Registry) SumDB(ctx context.Context) (*sumDB, error) {
	setting := r.Settings.Get("GOSUMDB")
	if setting == "" {
		var err error
		if setting, err = r.around.Ask(ctx, "go", "env", "GOSUMDB"); err != nil {
			return nil, fmt.Errorf("asking go for its checksum database: %w\n  next: install Go, or set GOSUMDB", err)
		}
	}
	fields := strings.Fields(setting)
	if len(fields) == 0 || setting == "off" {
		return nil, nil
	}
	key := fields[0]
	if known := knownDatabases[key]; known != "" {
		key = known
	}
	verifier, err := note.NewVerifier(key)
	if err != nil {
		return nil, &model.Fault{
			Doing: "reading GOSUMDB", Wrong: fmt.Sprintf("%q names no checksum database with its key: %v", fields[0], err),
			Next: "set it to off, or to what the keeper of the database gives out",
		}
	}
	d := &sumDB{name: verifier.Name(), ctx: ctx, r: r}
	d.own = "https://" + d.name
	if len(fields) > 1 {
		d.own = strings.TrimSuffix(fields[1], "/")
	}
	d.asked = r.Settings.Proxies
	d.client = sumdb.NewClient(&sumOps{d, key})
	return d, nil
}

// Check looks hashes of a module up. The error is a fault if the database knows another
// hash. Where it does not answer, nothing vouches for the hash, and that is an error, too.
func (d *sumDB) Check(m module.Version, hash string) error {
	whole := strings.TrimSuffix(m.Version, "/go.mod")
	lines, err := d.client.Lookup(m.Path, m.Version)
	if err != nil {
		if cause := d.cause(); cause != nil {
			err = cause // the client tells its text alone
		}
		return fmt.Errorf(
			"looking up %s %s in the checksum database %s: %w\n  next: nothing was written, since nothing vouches for it; try "+
				"again, or if you mean to go without the database, set GONOSUMDB or GOSUMDB yourself",
			m.Path, whole, d.name, err,
		)
	}
	want := m.Path + " " + m.Version + " " + hash
	for _, line := range lines {
		if line == want {
			return nil
		}
	}
	return &model.Fault{
		Doing: "checking what was fetched", Found: true,
		Wrong: fmt.Sprintf("SECURITY: %s %s has the hash %s, which is not the one in the checksum database %s", m.Path, m.Version, hash, d.name),
		Next:  "do not use this copy: somebody changed it on its way; nothing was written",
	}
}

// cause is why the database was not heard, nil if it was: also where it said that it
// does not know something.
func (d *sumDB) cause() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	err := cmp.Or(d.broken, d.failed)
	if status := (*fetch.Status)(nil); errors.As(err, &status) && status.Code < http.StatusInternalServerError {
		return nil
	}
	return err
}

// sumOps are what the client of the database needs of the world.
type sumOps struct {
	*sumDB
	key string
}

// ReadRemote reads a path of the database, from the first address that serves
// it.
func (o *sumOps) ReadRemote(path string) ([]byte, error) {
	base, err := o.find()
	if err != nil {
		return nil, err
	}
	data, err := o.get(base+path, !strings.HasPrefix(path, "/latest"))
	o.mu.Lock()
	defer o.mu.Unlock()
	o.failed = err
	return data, err
}

// find gives the address that serves the database. As for the go command, a proxy says by
// a plain "not found" that it does not serve it, and the next one is asked; any other
// failure of a proxy is one of the database (https://go.dev/ref/mod#checksum-database).
func (o *sumOps) find() (string, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.base != "" || o.broken != nil {
		return o.base, o.broken
	}
	for _, p := range o.asked {
		if p.URL == "direct" || p.URL == "off" {
			break
		}
		base := p.URL + "/sumdb/" + o.name
		_, err := o.get(base+"/supported", false)
		var status *fetch.Status
		switch {
		case err == nil:
			o.base = base
			return base, nil
		case errors.Is(err, fs.ErrNotExist), errors.As(err, &status) && (status.Code == http.StatusNotFound || status.Code == http.StatusGone):
		case p.Always:
		default:
			o.broken = err
			return "", err
		}
	}
	o.base = o.own
	return o.base, nil
}

func (o *sumOps) get(address string, forever bool) ([]byte, error) {
	if file, ok := strings.CutPrefix(address, "file://"); ok {
		return within.Plain(filepath.FromSlash(file), protocol.MaxModFile)
	}
	return o.r.around.Client.Document(o.ctx, fetch.Request{
		URL: address, Form: "golang/sumdb/1", Forever: forever,
		Distil: func(body io.Reader) ([]byte, error) {
			return io.ReadAll(&protocol.Bounded{R: body, Left: protocol.MaxModFile})
		},
	})
}

// ReadConfig gives the database's key, and the newest signed tree that was
// seen: at first the one that the go command saw.
func (o *sumOps) ReadConfig(file string) ([]byte, error) {
	if file == "key" {
		return []byte(o.key), nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.latest == nil {
		seen, err := within.Plain(filepath.Join(filepath.Dir(o.r.disk), "sumdb", filepath.FromSlash(file)), protocol.MaxModFile)
		if err != nil {
			seen = []byte{}
		}
		o.latest = seen
	}
	return o.latest, nil
}

// WriteConfig keeps a newer signed tree for the time of this run.
func (o *sumOps) WriteConfig(_ string, old, fresh []byte) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if string(o.latest) != string(old) {
		return sumdb.ErrWriteConflict
	}
	o.latest = fresh
	return nil
}

// ReadCache reads what the go command keeps of the database.
func (o *sumOps) ReadCache(file string) ([]byte, error) {
	return within.Plain(filepath.Join(o.r.disk, "cache", "download", "sumdb", filepath.FromSlash(file)), protocol.MaxModFile)
}

// WriteCache does nothing: what is fetched is kept with all other documents.
func (o *sumOps) WriteCache(string, []byte) {}

// Log does nothing.
func (o *sumOps) Log(string) {}

// SecurityError does nothing: the same comes as an error of Lookup.
func (o *sumOps) SecurityError(string) {}

// Vouched is the hash that the checksum database vouched for in this call, "" if it was not asked.
func (r *Registry) Vouched(m module.Version) string {
	r.checking.Lock()
	defer r.checking.Unlock()
	return r.checked[m]
}

// Vouch keeps a hash that the checksum database vouched for.
func (r *Registry) Vouch(m module.Version, hash string) {
	r.checking.Lock()
	defer r.checking.Unlock()
	r.checked[m] = hash
}
