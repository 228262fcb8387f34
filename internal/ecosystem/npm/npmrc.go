package npm

import (
	"encoding/base64"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"bellwether/internal/host/fetch"
)

// settings are npm's configuration as its documentation ("npmrc") lays it
// down: environment over project over user.
type settings map[string]string

var envReference = regexp.MustCompile(`\$\{([^}]+)\}`)

// readSettings reads the .npmrc files of the project's folders and of the
// user, and npm_config_ variables of the environment.
func readSettings(root, dir, home string, env func(string) string, environ []string) settings {
	s := settings{}
	user := env("npm_config_userconfig")
	if user == "" {
		user = filepath.Join(home, ".npmrc")
	}
	files := []string{user}
	if home == "" && env("npm_config_userconfig") == "" {
		files = nil
	}
	files = append(files, filepath.Join(root, filepath.FromSlash(dir), ".npmrc"))
	for _, file := range files {
		if data, err := os.ReadFile(file); err == nil {
			s.read(string(data), env)
		}
	}
	for _, pair := range environ {
		key, value, _ := strings.Cut(pair, "=")
		lower := strings.ToLower(key)
		if name, ok := strings.CutPrefix(lower, "npm_config_"); ok && value != "" {
			if !strings.HasPrefix(name, "//") && !strings.HasPrefix(name, "@") {
				name = strings.ReplaceAll(name, "_", "-")
			}
			s[name] = value
		}
	}
	return s
}

func (s settings) read(text string, env func(string) string) {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
		if line == "" || line[0] == '#' || line[0] == ';' || line[0] == '[' {
			continue
		}
		key, value, found := strings.Cut(line, "=")
		key, value = strings.TrimSpace(key), strings.TrimSpace(value)
		if !found {
			value = "true"
		}
		if len(value) >= 2 && (value[0] == '"' || value[0] == '\'') && value[len(value)-1] == value[0] {
			value = value[1 : len(value)-1]
		}
		s[key] = envReference.ReplaceAllStringFunc(value, func(ref string) string {
			if v := env(ref[2 : len(ref)-1]); v != "" {
				return v
			}
			return ref
		})
	}
}

func (s settings) on(key string) bool { return s[key] == "true" }

// patience is how long a silent registry is waited for, and how often a failed
// request is tried again, as fetch-timeout (in milliseconds) and fetch-retries
// say.
func (s settings) patience() (stall time.Duration, retries int) {
	stall, retries = fetch.DefaultStall, fetch.DefaultRetries
	if ms, err := strconv.Atoi(s["fetch-timeout"]); err == nil && ms > 0 {
		stall = time.Duration(ms) * time.Millisecond
	}
	if n, err := strconv.Atoi(s["fetch-retries"]); err == nil && n >= 0 {
		retries = n
	}
	return stall, retries
}

// registry is the registry's address for a package, with a slash at its end.
func (s settings) registry(name string) string {
	address := ""
	if scope, _, scoped := strings.Cut(name, "/"); scoped {
		address = s[scope+":registry"]
	}
	if address == "" {
		address = s["registry"]
	}
	return strings.TrimSuffix(address, "/") + "/"
}

// authorization is the header for an address: npm keeps credentials under the
// host and path that they are for, "//host/path/:_authToken".
func (s settings) authorization(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	for prefix := "//" + u.Host + strings.TrimSuffix(u.Path, "/"); strings.HasPrefix(prefix, "//"+u.Host); prefix = prefix[:strings.LastIndex(prefix, "/")] {
		for _, key := range []string{prefix + "/:", prefix + ":"} {
			if token := s[key+"_authToken"]; token != "" {
				return "Bearer " + token
			}
			if auth := s[key+"_auth"]; auth != "" {
				return "Basic " + auth
			}
			name, password := s[key+"username"], s[key+"_password"]
			if plain, err := base64.StdEncoding.DecodeString(password); err == nil && name != "" && password != "" {
				return "Basic " + base64.StdEncoding.EncodeToString([]byte(name+":"+string(plain)))
			}
		}
	}
	return ""
}

// authorities are the PEM certificates that the user trusts for registries.
func (s settings) authorities(env func(string) string) []byte {
	var pem []byte
	for _, file := range []string{s["cafile"], env("NODE_EXTRA_CA_CERTS")} {
		if file == "" {
			continue
		}
		if data, err := os.ReadFile(file); err == nil {
			pem = append(append(pem, data...), '\n')
		}
	}
	if ca := s["ca"]; ca != "" && ca != "null" {
		pem = append(pem, strings.ReplaceAll(ca, `\n`, "\n")...)
	}
	return pem
}

// fileExists tells whether fsys has a file of that name.
func fileExists(fsys fs.FS, name string) bool {
	info, err := fs.Stat(fsys, name)
	return err == nil && !info.IsDir()
}
