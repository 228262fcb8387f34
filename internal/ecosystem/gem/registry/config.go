package registry

import (
	"encoding/base64"
	"errors"
	"io/fs"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// Config is Bundler's own configuration.
type Config struct {
	Layers []map[string]string // of the project, the environment and the person; the first that has a key wins
	own    []map[string]string // those that the project has no part in
	logins map[string]string   // of netrc, by host
	Proxy  string              // of RubyGems' configuration
}

// maxConfig bounds a file of configuration, in bytes.
const maxConfig = 1 << 20

// ReadConfig reads the settings of Bundler and RubyGems, those of the project among them.
func ReadConfig(s ecosystem.Surroundings, dir string) (c Config, err error) {
	read := func(src []byte, err error) (layer map[string]string) {
		if err != nil || len(src) > maxConfig {
			return nil
		}
		doc, err := yamldoc.Parse("", src)
		if err != nil || len(doc.Roots) == 0 {
			return nil
		}
		layer = map[string]string{}
		for key, value := range yamldoc.Pairs(doc.Roots[0]) {
			if value.Kind == yaml.ScalarNode { // lists are no settings of ours
				layer[key.Value] = yamldoc.Text(value)
			}
		}
		return layer
	}
	env := map[string]string{}
	for _, pair := range s.Environ {
		if name, value, _ := strings.Cut(pair, "="); strings.HasPrefix(name, "BUNDLE_") {
			env[name] = value
		}
	}
	c.own = []map[string]string{env}
	if s.Home != "" {
		c.own = append(c.own, read(within.Plain(filepath.Join(s.Home, ".bundle", "config"), maxConfig)))
		c.Proxy = read(within.Plain(filepath.Join(s.Home, ".gemrc"), maxConfig))[":http_proxy"]
	}
	c.Layers = slices.Insert(slices.Clone(c.own), 0, read(fs.ReadFile(s.Files, path.Join(dir, ".bundle/config"))))
	c.logins, err = s.Netrc()
	return c, err
}

// person is a setting that a project cannot make: what is trusted.
func (c Config) person(setting string) string {
	return Config{Layers: c.own}.get(setting)
}

// authorities are the certificates that Bundler trusts besides those of the system, from a file or
// the files of a folder.
func (c Config) authorities() (all []byte, err error) {
	name := c.person("ssl_ca_cert")
	if name == "" {
		return nil, nil
	}
	folder, err := within.Open(name, nil)
	if err != nil {
		return within.Plain(name, maxConfig)
	}
	defer func() { err = errors.Join(err, folder.Close()) }()
	files, err := folder.ReadDir(".")
	for _, file := range files {
		if text, err := folder.ReadAtMost(file.Name(), maxConfig); err == nil {
			all = append(append(all, text...), '\n')
		}
	}
	return all, err
}

// Key is how a setting is written in files and in the environment.
func Key(setting string) string {
	return "BUNDLE_" + strings.ToUpper(strings.NewReplacer(".", "__", "-", "___").Replace(setting))
}

func (c Config) get(setting string) string {
	for _, layer := range c.Layers {
		if v := layer[Key(setting)]; v != "" {
			return v
		}
	}
	return ""
}

// mirror is the address that is asked in the place of a source.
func (c Config) mirror(source string) string {
	for _, form := range []string{source, strings.TrimSuffix(source, "/"), "all"} {
		if m := c.get("mirror." + form); m != "" {
			return WithSlash(m)
		}
	}
	return source
}

// Authorization is the login for an address. One that would go over plain HTTP is not sent.
func (c Config) Authorization(address string) (header, refused string) {
	u, err := url.Parse(address)
	if err != nil {
		return "", ""
	}
	login := c.get(u.Host)
	if login == "" {
		login = c.get(u.Hostname())
	}
	if login == "" && fetch.Private(address) {
		return c.logins[u.Hostname()], ""
	}
	if login == "" {
		return "", ""
	}
	if !fetch.Private(address) {
		return "", "the login for " + u.Host + " is not sent: it would go over plain HTTP; use https"
	}
	return basic(login), ""
}

// basic is the header for a login as addresses have it.
func basic(login string) string {
	if plain, err := url.PathUnescape(login); err == nil {
		login = plain
	}
	if !strings.Contains(login, ":") {
		login += ":"
	}
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(login))
}

// WithSlash is an address with one slash at its end.
func WithSlash(address string) string { return strings.TrimSuffix(address, "/") + "/" }
