package within

import (
	"path"
	"sync"
)

// listed are folders that were listed, and that no link leads to, with the names of the
// links in them. So it is known of most names, without asking again, that none leads
// elsewhere.
type listed struct {
	mu    sync.RWMutex
	links map[string]map[string]bool
}

// plain tells whether a name is known to be no link, nor behind one.
func (l *listed) plain(name string) bool {
	if name == "." {
		return true
	}
	l.mu.RLock()
	defer l.mu.RUnlock()
	links, known := l.links[path.Dir(name)]
	return known && !links[path.Base(name)]
}

// add takes down what links a folder has.
func (l *listed) add(dir string, links map[string]bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.links[dir] = links
}

// throughLinks refuses a name that leads into .git by way of links in the folder.
func (f *Folder) throughLinks(name string) error {
	if !f.links || f.listed.plain(name) {
		return nil
	}
	_, err := f.Real(name)
	return err
}
