package gem

import (
	"encoding/base64"
	"io/fs"
	"net/url"
	"path"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// config is Bundler's own configuration: of the project, of the environment, of the person, the
// first that has a key wins.
type config struct{ layers []map[string]string }

// maxConfig bounds a file of configuration, in bytes.
const maxConfig = 1 << 20

func readConfig(s ecosystem.Surroundings, dir string) config {
	var c config
	read := func(src []byte, err error) {
		layer := map[string]string{}
		if err == nil && len(src) <= maxConfig && yaml.Unmarshal(src, &layer) == nil {
			c.layers = append(c.layers, layer)
		}
	}
	read(fs.ReadFile(s.Files, path.Join(dir, ".bundle/config")))
	env := map[string]string{}
	for _, pair := range s.Environ {
		if name, value, _ := strings.Cut(pair, "="); strings.HasPrefix(name, "BUNDLE_") {
			env[name] = value
		}
	}
	c.layers = append(c.layers, env)
	if s.Home != "" {
		read(within.Plain(filepath.Join(s.Home, ".bundle", "config"), maxConfig))
	}
	return c
}

// key is how a setting is written in files and in the environment.
func key(setting string) string {
	return "BUNDLE_" + strings.ToUpper(strings.NewReplacer(".", "__", "-", "___").Replace(setting))
}

func (c config) get(setting string) string {
	for _, layer := range c.layers {
		if v := layer[key(setting)]; v != "" {
			return v
		}
	}
	return ""
}

// mirror is the address that is asked in the place of a source.
func (c config) mirror(source string) string {
	for _, form := range []string{source, strings.TrimSuffix(source, "/"), "all"} {
		if m := c.get("mirror." + form); m != "" {
			return withSlash(m)
		}
	}
	return source
}

// authorization is the login for an address. One that would go over plain HTTP is not sent.
func (c config) authorization(address string) (header, refused string) {
	u, err := url.Parse(address)
	if err != nil {
		return "", ""
	}
	login := c.get(u.Host)
	if login == "" {
		login = c.get(u.Hostname())
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

func withSlash(address string) string { return strings.TrimSuffix(address, "/") + "/" }
