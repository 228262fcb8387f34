package npm

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// settings are npm's configuration as its documentation ("npmrc") lays it
// down: environment over project over user. What the project's own file says is data:
// it may name registries, but it gets nothing of the person's, and sends nothing of
// theirs anywhere.
type settings struct {
	values map[string]string
	own    map[string]string // the person's alone
	// project has the keys whose value is the project's.
	project map[string]bool
	// waiting are logins that the project's file fills with a variable, by their keys;
	// they count once the person's configuration is seen to name the host.
	waiting map[string]waiting
	refused []string
}

// waiting is a login with a variable in it.
type waiting struct{ place, value string }

var envReference = lazyregexp.New(`\$\{([^}]+)\}`)

// maxSettings bounds a file of settings or certificates, in bytes.
const maxSettings = 4 << 20

// readSettings reads the .npmrc files of the component's folder and of the
// user, and npm_config_ variables of the environment.
func readSettings(files fs.FS, dir, home string, env func(string) string, environ []string) *settings {
	s := &settings{values: map[string]string{}, own: map[string]string{}, project: map[string]bool{}, waiting: map[string]waiting{}}
	user := env("npm_config_userconfig")
	if user == "" && home != "" {
		user = filepath.Join(home, ".npmrc")
	}
	if user != "" {
		text, err := within.Plain(user, maxSettings)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			s.refuse(user, "is not read: "+model.Reason(err))
		}
		for _, l := range lines(string(text)) {
			s.own[l.key] = fill(l.value, env)
		}
	}
	maps.Copy(s.values, s.own)
	s.readProject(files, dir, env)
	for _, pair := range environ {
		key, value, _ := strings.Cut(pair, "=")
		lower := strings.ToLower(key)
		if name, ok := strings.CutPrefix(lower, "npm_config_"); ok && value != "" {
			if !strings.HasPrefix(name, "//") && !strings.HasPrefix(name, "@") {
				name = strings.ReplaceAll(name, "_", "-")
			}
			s.own[name], s.values[name] = value, value
			delete(s.project, name)
		}
	}
	s.fillKnown(env)
	return s
}

// digest names the settings of the component in dir: the same for those that are the same.
func (s *settings) digest(dir string) string {
	if !s.project["cafile"] {
		dir = "" // nothing else is relative to it
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %v %q %q %q", s.values, s.own, s.project, s.waiting, s.refused, dir))
	return hex.EncodeToString(sum[:])
}

func (s *settings) refuse(place, why string) { s.refused = append(s.refused, place+" "+why) }

// ownAlone are settings that a project cannot make: where all requests of the person go.
var ownAlone = []string{"proxy", "https-proxy", "http-proxy", "noproxy", "no-proxy"}

// trusting are settings by which certificates count that the machine does not vouch for.
var trusting = []string{"ca", "cafile", "strict-ssl"}

// readProject takes the project's own file over.
func (s *settings) readProject(files fs.FS, dir string, env func(string) string) {
	name := path.Join(dir, ".npmrc")
	text, err := readSmall(files, name)
	if errors.Is(err, fs.ErrNotExist) {
		return
	} else if err != nil {
		s.refuse(name, "is not read: "+model.Reason(err))
		return
	}
	for _, l := range lines(text) {
		place := fmt.Sprintf("%s:%d:", name, l.number)
		_, address := s.addressed(l.key)
		variable := envReference.MatchString(l.value)
		switch {
		case slices.Contains(ownAlone, l.key):
			s.refuse(
				place,
				l.key+" is not taken from a project, since it would see all that you ask for; if it is right, write it into your own .npmrc",
			)
			continue
		case variable && isLogin(l.key):
			s.waiting[l.key] = waiting{place, l.value}
			continue
		case variable && (address || slices.Contains(trusting, l.key)):
			s.refuse(
				place,
				l.key+" is not taken, since a variable of your environment would become part of it; write it without one, or into your own .npmrc",
			)
			continue
		case l.key == "cafile" && !filepath.IsLocal(filepath.FromSlash(l.value)):
			s.refuse(place, "cafile is not taken, since it leads out of the project; if it is right, write it into your own .npmrc")
			continue
		}
		s.values[l.key], s.project[l.key] = l.value, true
	}
}

func readSmall(files fs.FS, name string) (string, error) {
	if files == nil {
		return "", fs.ErrNotExist
	}
	if f, ok := files.(interface {
		ReadAtMost(name string, limit int64) ([]byte, error)
	}); ok {
		text, err := f.ReadAtMost(name, maxSettings)
		return string(text), err
	}
	text, err := fs.ReadFile(files, name)
	return string(text), err
}

// addressed tells whether a setting is the address of a registry.
func (s *settings) addressed(key string) (scope string, ok bool) {
	if scope, ok = strings.CutSuffix(key, ":registry"); ok {
		return scope, true
	}
	return "", key == "registry"
}

// isLogin tells whether a setting is a login for a host, "//host/path/:_authToken".
func isLogin(key string) bool {
	return strings.HasPrefix(key, "//") && hasSuffix(key, ":_authToken", ":_auth", ":username", ":_password")
}

func hasSuffix(s string, ends ...string) bool {
	return slices.ContainsFunc(ends, func(end string) bool { return strings.HasSuffix(s, end) })
}

// fillKnown fills variables into logins of the project's file where the person's own
// configuration names the host: what they give that host goes nowhere else.
func (s *settings) fillKnown(env func(string) string) {
	for key, w := range s.waiting {
		host, _, _ := strings.Cut(key[2:], "/")
		if s.names(host) {
			if _, set := s.own[key]; !set {
				s.values[key] = fill(w.value, env)
			}
			delete(s.waiting, key)
		}
	}
}

// names tells whether the person's own configuration names a host.
func (s *settings) names(host string) bool {
	for key, value := range s.own {
		if strings.HasPrefix(key, "//"+host+"/") || strings.HasPrefix(key, "//"+host+":") {
			return true
		}
		if _, address := s.addressed(key); address {
			if u, err := url.Parse(value); err == nil && u.Host == host {
				return true
			}
		}
	}
	return false
}

// said are the sentences about what was refused.
func (s *settings) said() []string {
	said := slices.Clone(s.refused)
	for _, key := range slices.Sorted(maps.Keys(s.waiting)) {
		w := s.waiting[key]
		host, _, _ := strings.Cut(key[2:], "/")
		said = append(
			said,
			fmt.Sprintf(
				"%s %s is not filled in, since nothing of your own configuration names the host %s; if it may have it, write the "+
					"login into your own .npmrc",
				w.place, envReference.FindString(w.value), host,
			),
		)
	}
	return said
}

// line is one setting of a file.
type line struct {
	number     int
	key, value string
}

func lines(text string) (all []line) {
	number := 0
	for l := range strings.Lines(text) {
		number++
		l = strings.TrimSpace(strings.TrimPrefix(l, "\ufeff"))
		if l == "" || l[0] == '#' || l[0] == ';' || l[0] == '[' {
			continue
		}
		key, value, found := strings.Cut(l, "=")
		key, value = strings.TrimSpace(key), strings.TrimSpace(value)
		if !found {
			value = "true"
		}
		if len(value) >= 2 && (value[0] == '"' || value[0] == '\'') && value[len(value)-1] == value[0] {
			value = value[1 : len(value)-1]
		}
		all = append(all, line{number, key, value})
	}
	return all
}

// fill puts variables of the environment in.
func fill(value string, env func(string) string) string {
	return envReference.ReplaceAllStringFunc(value, func(ref string) string {
		if v := env(ref[2 : len(ref)-1]); v != "" {
			return v
		}
		return ref
	})
}

func (s *settings) get(key string) string { return s.values[key] }

func (s *settings) on(key string) bool { return s.values[key] == "true" }

// patience is how long a silent registry is waited for, and how often a failed
// request is tried again, as fetch-timeout (in milliseconds) and fetch-retries
// say.
func (s *settings) patience() (stall time.Duration, retries int) {
	stall, retries = fetch.DefaultStall, fetch.DefaultRetries
	if ms, err := strconv.Atoi(s.values["fetch-timeout"]); err == nil && ms > 0 {
		stall = min(time.Duration(min(ms, maxPatience))*time.Millisecond, maxPatience*time.Millisecond)
	}
	if n, err := strconv.Atoi(s.values["fetch-retries"]); err == nil && n >= 0 {
		retries = min(n, maxRetries)
	}
	return stall, retries
}

// Bounds of what patience may be set to, in milliseconds and tries.
const (
	maxPatience = 10 * 60 * 1000
	maxRetries  = 20
)

// address is the registry's address for a package as it is set, with a slash at its end.
func (s *settings) address(name string) string {
	address := ""
	if scope, _, scoped := strings.Cut(name, "/"); scoped {
		address = s.values[scope+":registry"]
	}
	if address == "" {
		address = s.values["registry"]
	}
	return strings.TrimSuffix(address, "/") + "/"
}

// registry is the registry's address for a package, without a login that is set in it:
// it goes into locks and caches.
func (s *settings) registry(name string) string {
	plain, ok := harmless.WithoutLogin(s.address(name))
	if !ok {
		return "https://address-that-cannot-be-read.invalid/"
	}
	return plain
}

// inAddress is the login that is set in the address of a package's registry, as a header.
func (s *settings) inAddress(name string) string {
	u, err := url.Parse(s.address(name))
	if err != nil || u.User == nil {
		return ""
	}
	password, _ := u.User.Password()
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
}

// authorization is the header for an address: npm keeps credentials under the
// host and path that they are for, "//host/path/:_authToken". refused says why there is
// one that is not sent.
func (s *settings) authorization(address string) (header, refused string) {
	u, err := url.Parse(address)
	if err != nil {
		return "", ""
	}
	header, own := s.login(u)
	switch {
	case header == "":
		return "", ""
	case !fetch.Private(address):
		return "", fmt.Sprintf(
			"the login for %s is not sent: it would go over plain HTTP, where everybody on the way could read it; use https", u.Host,
		)
	case own && slices.ContainsFunc(trusting, func(key string) bool { return s.project[key] && s.values[key] != "true" }):
		return "", fmt.Sprintf(
			"the login for %s is not sent: the project's .npmrc says which certificates count (ca, cafile, strict-ssl), and could "+
				"so pass anybody off as that host; say it in your own .npmrc",
			u.Host,
		)
	}
	return header, ""
}

// login is what is set for an address, and whether it is the person's.
func (s *settings) login(u *url.URL) (header string, own bool) {
	host := "//" + u.Host
	for prefix := host + strings.TrimSuffix(u.Path, "/"); strings.HasPrefix(prefix, host); prefix = prefix[:strings.LastIndex(prefix, "/")] {
		for _, key := range []string{prefix + "/:", prefix + ":"} {
			// One that is filled with a variable of the person's is theirs.
			theirs := func(name string) bool { _, in := s.own[key+name]; return in || !s.project[key+name] }
			if token := s.values[key+"_authToken"]; token != "" {
				return "Bearer " + token, theirs("_authToken")
			}
			if auth := s.values[key+"_auth"]; auth != "" {
				return "Basic " + auth, theirs("_auth")
			}
			name, password := s.values[key+"username"], s.values[key+"_password"]
			if plain, err := base64.StdEncoding.DecodeString(password); err == nil && name != "" && password != "" {
				return "Basic " + base64.StdEncoding.EncodeToString([]byte(name+":"+string(plain))), theirs("_password")
			}
		}
	}
	return "", false
}

// authorities are the PEM certificates that the user trusts for registries.
func (s *settings) authorities(files fs.FS, dir string, env func(string) string) ([]byte, error) {
	var pem []byte
	if file := s.values["cafile"]; file != "" && file != "null" {
		text, err := within.Plain(file, maxSettings)
		if s.project["cafile"] {
			var inside string
			inside, err = readSmall(files, path.Join(dir, filepath.ToSlash(file)))
			text = []byte(inside)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("cafile %s: %s", file, model.Reason(err))
		}
		pem = append(append(pem, text...), '\n')
	}
	if file := env("NODE_EXTRA_CA_CERTS"); file != "" {
		text, err := within.Plain(file, maxSettings)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("NODE_EXTRA_CA_CERTS %s: %s", file, model.Reason(err))
		}
		pem = append(append(pem, text...), '\n')
	}
	if ca := s.values["ca"]; ca != "" && ca != "null" {
		pem = append(pem, strings.ReplaceAll(ca, `\n`, "\n")...)
	}
	return bytes.TrimSpace(pem), nil
}

// fileExists tells whether fsys has a file of that name.
func fileExists(fsys fs.FS, name string) bool {
	info, err := fs.Stat(fsys, name)
	return err == nil && !info.IsDir()
}
