// Package npmrc reads npm's settings: which registries there are, and which logins they get. What a project lays down is data
// and gets nothing of the person's.
package npmrc

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

// Settings are npm's configuration as its documentation ("npmrc") lays it
// down: environment over project over user. What the project's own file says is data:
// it may name registries, but it gets nothing of the person's, and sends nothing of
// theirs anywhere.
type Settings struct {
	Values map[string]string
	Own    map[string]string // the person's alone
	// project has the keys whose value is the project's.
	project map[string]bool
	// waiting are logins that the project's file fills with a variable, by their keys;
	// they count once the person's configuration is seen to name the host.
	Waiting map[string]waiting
	refused []string
}

// waiting is a login with a variable in it.
type waiting struct{ place, value string }

var envReference = lazyregexp.New(`\$\{([^}]+)\}`)

// maxSettings bounds a file of settings or certificates, in bytes.
const maxSettings = 4 << 20

// Read reads the .npmrc files of the component's folder and of the
// user, and npm_config_ variables of the environment.
func Read(files fs.FS, dir, home string, env func(string) string, environ []string) *Settings {
	s := &Settings{Values: map[string]string{}, Own: map[string]string{}, project: map[string]bool{}, Waiting: map[string]waiting{}}
	user := env("npm_config_userconfig")
	if user == "" && home != "" {
		user = filepath.Join(home, ".npmrc")
	}
	if user != "" {
		text, err := within.Plain(user, maxSettings)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			s.refuse(user, "is not read: "+model.Reason(err))
		}
		for _, l := range Lines(string(text)) {
			s.Own[l.Key] = fill(l.Value, env)
		}
	}
	maps.Copy(s.Values, s.Own)
	s.readProject(files, dir, env)
	for _, pair := range environ {
		key, value, _ := strings.Cut(pair, "=")
		lower := strings.ToLower(key)
		if name, ok := strings.CutPrefix(lower, "npm_config_"); ok && value != "" {
			if !strings.HasPrefix(name, "//") && !strings.HasPrefix(name, "@") {
				name = strings.ReplaceAll(name, "_", "-")
			}
			s.Own[name], s.Values[name] = value, value
			delete(s.project, name)
		}
	}
	s.FillKnown(env)
	return s
}

// Digest names the settings of the component in dir: the same for those that are the same.
func (s *Settings) Digest(dir string) string {
	if !s.project["cafile"] {
		dir = "" // nothing else is relative to it
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %v %q %q %q", s.Values, s.Own, s.project, s.Waiting, s.refused, dir))
	return hex.EncodeToString(sum[:])
}

func (s *Settings) refuse(place, why string) { s.refused = append(s.refused, place+" "+why) }

// ownAlone are settings that a project cannot make: where all requests of the person go.
var ownAlone = []string{"proxy", "https-proxy", "http-proxy", "noproxy", "no-proxy"}

// trusting are settings by which certificates count that the machine does not vouch for.
var trusting = []string{"ca", "cafile", "strict-ssl"}

// readProject takes the project's own file over.
func (s *Settings) readProject(files fs.FS, dir string, env func(string) string) {
	name := path.Join(dir, ".npmrc")
	text, err := ReadSmall(files, name)
	if errors.Is(err, fs.ErrNotExist) {
		return
	} else if err != nil {
		s.refuse(name, "is not read: "+model.Reason(err))
		return
	}
	for _, l := range Lines(text) {
		place := fmt.Sprintf("%s:%d:", name, l.number)
		_, address := s.addressed(l.Key)
		variable := envReference.MatchString(l.Value)
		switch {
		case slices.Contains(ownAlone, l.Key):
			s.refuse(
				place,
				l.Key+" is not taken from a project, since it would see all that you ask for; if it is right, write it into your own .npmrc",
			)
			continue
		case variable && isLogin(l.Key):
			s.Waiting[l.Key] = waiting{place, l.Value}
			continue
		case variable && (address || slices.Contains(trusting, l.Key)):
			s.refuse(
				place,
				l.Key+" is not taken, since a variable of your environment would become part of it; write it without one, or into your own .npmrc",
			)
			continue
		case l.Key == "cafile" && !filepath.IsLocal(filepath.FromSlash(l.Value)):
			s.refuse(place, "cafile is not taken, since it leads out of the project; if it is right, write it into your own .npmrc")
			continue
		}
		s.Values[l.Key], s.project[l.Key] = l.Value, true
	}
}

// ReadSmall reads a file of settings, which is not large.
func ReadSmall(files fs.FS, name string) (string, error) {
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
func (s *Settings) addressed(key string) (scope string, ok bool) {
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

// FillKnown fills variables into logins of the project's file where the person's own
// configuration names the host: what they give that host goes nowhere else.
func (s *Settings) FillKnown(env func(string) string) {
	for key, w := range s.Waiting {
		host, _, _ := strings.Cut(key[2:], "/")
		if s.names(host) {
			if _, set := s.Own[key]; !set {
				s.Values[key] = fill(w.value, env)
			}
			delete(s.Waiting, key)
		}
	}
}

// names tells whether the person's own configuration names a host.
func (s *Settings) names(host string) bool {
	for key, value := range s.Own {
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

// Said are the sentences about what was refused.
func (s *Settings) Said() []string {
	said := slices.Clone(s.refused)
	for _, key := range slices.Sorted(maps.Keys(s.Waiting)) {
		w := s.Waiting[key]
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
	Key, Value string
}

// Lines are the settings that a text states, in its order.
func Lines(text string) (all []line) {
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

// Get is the value of a setting, "" where nothing sets it.
func (s *Settings) Get(key string) string { return s.Values[key] }

// On tells whether a setting is true.
func (s *Settings) On(key string) bool { return s.Values[key] == "true" }

// Patience is how long a silent registry is waited for, and how often a failed
// request is tried again, as fetch-timeout (in milliseconds) and fetch-retries
// say.
func (s *Settings) Patience() (stall time.Duration, retries int) {
	stall, retries = fetch.DefaultStall, fetch.DefaultRetries
	if ms, err := strconv.Atoi(s.Values["fetch-timeout"]); err == nil && ms > 0 {
		stall = min(time.Duration(min(ms, maxPatience))*time.Millisecond, maxPatience*time.Millisecond)
	}
	if n, err := strconv.Atoi(s.Values["fetch-retries"]); err == nil && n >= 0 {
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
func (s *Settings) address(name string) string {
	address := ""
	if scope, _, scoped := strings.Cut(name, "/"); scoped {
		address = s.Values[scope+":registry"]
	}
	if address == "" {
		address = s.Values["registry"]
	}
	return strings.TrimSuffix(address, "/") + "/"
}

// Registry is the registry's address for a package, without a login that is set in it:
// it goes into locks and caches.
func (s *Settings) Registry(name string) string {
	plain, ok := harmless.WithoutLogin(s.address(name))
	if !ok {
		return "https://address-that-cannot-be-read.invalid/"
	}
	return plain
}

// InAddress is the login that is set in the address of a package's registry, as a header.
func (s *Settings) InAddress(name string) string {
	u, err := url.Parse(s.address(name))
	if err != nil || u.User == nil {
		return ""
	}
	password, _ := u.User.Password()
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
}

// Authorization is the header for an address: npm keeps credentials under the
// host and path that they are for, "//host/path/:_authToken". refused says why there is
// one that is not sent.
func (s *Settings) Authorization(address string) (header, refused string) {
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
	case own && slices.ContainsFunc(trusting, func(key string) bool { return s.project[key] && s.Values[key] != "true" }):
		return "", fmt.Sprintf(
			"the login for %s is not sent: the project's .npmrc says which certificates count (ca, cafile, strict-ssl), and could "+
				"so pass anybody off as that host; say it in your own .npmrc",
			u.Host,
		)
	}
	return header, ""
}

// login is what is set for an address, and whether it is the person's.
func (s *Settings) login(u *url.URL) (header string, own bool) {
	host := "//" + u.Host
	for prefix := host + strings.TrimSuffix(u.Path, "/"); strings.HasPrefix(prefix, host); prefix = prefix[:strings.LastIndex(prefix, "/")] {
		for _, key := range []string{prefix + "/:", prefix + ":"} {
			// One that is filled with a variable of the person's is theirs.
			theirs := func(name string) bool { _, in := s.Own[key+name]; return in || !s.project[key+name] }
			if token := s.Values[key+"_authToken"]; token != "" {
				return "Bearer " + token, theirs("_authToken")
			}
			if auth := s.Values[key+"_auth"]; auth != "" {
				return "Basic " + auth, theirs("_auth")
			}
			name, password := s.Values[key+"username"], s.Values[key+"_password"]
			if plain, err := base64.StdEncoding.DecodeString(password); err == nil && name != "" && password != "" {
				return "Basic " + base64.StdEncoding.EncodeToString([]byte(name+":"+string(plain))), theirs("_password")
			}
		}
	}
	return "", false
}

// Authorities are the PEM certificates that the user trusts for registries.
func (s *Settings) Authorities(files fs.FS, dir string, env func(string) string) ([]byte, error) {
	var pem []byte
	if file := s.Values["cafile"]; file != "" && file != "null" {
		text, err := within.Plain(file, maxSettings)
		if s.project["cafile"] {
			var inside string
			inside, err = ReadSmall(files, path.Join(dir, filepath.ToSlash(file)))
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
	if ca := s.Values["ca"]; ca != "" && ca != "null" {
		pem = append(pem, strings.ReplaceAll(ca, `\n`, "\n")...)
	}
	return bytes.TrimSpace(pem), nil
}

// FileExists tells whether fsys has a file of that name.
func FileExists(fsys fs.FS, name string) bool {
	info, err := fs.Stat(fsys, name)
	return err == nil && !info.IsDir()
}
