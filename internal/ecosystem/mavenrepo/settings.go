package mavenrepo

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"

	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// Settings are the person's settings of Maven: settings.xml in the home folder.
type Settings struct {
	Local        string       // the folder of Maven's local repository
	Repositories []Repository // of the profiles that are active
	mirrors      []mirror
	servers      map[string]server
	proxy        string
	direct       []string
}

// mirror stands for the repositories that its pattern is about.
type mirror struct {
	Repository
	of      string
	blocked bool
}

// server is a login, by the identifier of a repository.
type server struct{ user, password string }

// maxSettings bounds the file of settings, in bytes.
const maxSettings = 4 << 20

// ReadSettings reads the person's settings. A file that is missing states nothing.
func ReadSettings(s ecosystem.Surroundings) (*Settings, error) {
	read := &Settings{servers: map[string]server{}}
	if s.Home == "" {
		return read, nil
	}
	read.Local = filepath.Join(s.Home, ".m2", "repository")
	file := filepath.Join(s.Home, ".m2", "settings.xml")
	text, err := within.Plain(file, maxSettings)
	if errors.Is(err, fs.ErrNotExist) {
		return read, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading Maven's settings: %w", err)
	}
	root, err := xmldoc.Parse(file, text)
	if err != nil {
		return nil, err
	}
	read.take(root, s)
	return read, nil
}

// take reads what a file of settings states.
func (s *Settings) take(root *xmldoc.Element, around ecosystem.Surroundings) {
	variable := regexp.MustCompile(`\$\{env\.[^}]*\}`)
	expand := func(text string) string {
		text = variable.ReplaceAllStringFunc(text, func(v string) string { return around.Env(v[len("${env.") : len(v)-1]) })
		return strings.ReplaceAll(text, "${user.home}", around.Home)
	}
	if local := expand(root.Value("localRepository")); filepath.IsAbs(local) {
		s.Local = local
	}
	for _, m := range root.Child("mirrors").All("mirror") {
		s.mirrors = append(s.mirrors, mirror{
			Repository{ID: m.Value("id"), URL: expand(m.Value("url"))}, m.Value("mirrorOf"), m.Value("blocked") == "true",
		})
	}
	for _, one := range root.Child("servers").All("server") {
		password := expand(one.Value("password"))
		if strings.HasPrefix(password, "{") && strings.HasSuffix(password, "}") {
			around.Note("the password for " + one.Value("id") + " in Maven's settings is encrypted, and is not used here")
			continue
		}
		s.servers[one.Value("id")] = server{expand(one.Value("username")), password}
	}
	for _, p := range root.Child("proxies").All("proxy") {
		if p.Value("active") == "false" || s.proxy != "" || p.Value("host") == "" {
			continue
		}
		address := url.URL{Scheme: "http", Host: p.Value("host")}
		if port := p.Value("port"); port != "" {
			address.Host += ":" + port
		}
		if user := p.Value("username"); user != "" {
			address.User = url.UserPassword(user, expand(p.Value("password")))
		}
		s.proxy, s.direct = address.String(), strings.Split(p.Value("nonProxyHosts"), "|")
	}
	active := map[string]bool{}
	for _, a := range root.Child("activeProfiles").All("activeProfile") {
		active[a.Text] = true
	}
	for _, p := range root.Child("profiles").All("profile") {
		if !active[p.Value("id")] && p.Child("activation").Value("activeByDefault") != "true" {
			continue
		}
		for _, r := range p.Child("repositories").All("repository") {
			s.Repositories = append(s.Repositories, ReadRepository(r, expand))
		}
	}
}

// ReadRepository reads a repository that a project or settings declare.
func ReadRepository(e *xmldoc.Element, expand func(string) string) Repository {
	return Repository{
		ID: e.Value("id"), URL: expand(e.Value("url")), Snapshots: e.Child("snapshots").Value("enabled") != "false",
		NoRelease: e.Child("releases").Value("enabled") == "false",
	}
}

// Reach has a client go by way of the person's proxy.
func (s *Settings) Reach(client *fetch.Client) error {
	if s.proxy == "" {
		return nil
	}
	return client.Proxy(s.proxy, s.direct)
}

// mirrored is what is asked in the place of a repository: the first mirror whose pattern is about it
// (Maven: Guide to Mirror Settings).
func (s *Settings) mirrored(r Repository) (Repository, error) {
	for _, m := range s.mirrors {
		if !m.stands(r) {
			continue
		}
		if m.blocked {
			return r, fmt.Errorf("Maven's settings block the repository %s", r.ID)
		}
		return m.Repository, nil
	}
	return r, nil
}

// stands tells whether a mirror stands for a repository.
func (m mirror) stands(r Repository) bool {
	external := func() bool {
		u, err := url.Parse(r.URL)
		return err == nil && u.Hostname() != "localhost" && u.Hostname() != "127.0.0.1" && u.Scheme != "file"
	}
	found := false
	for part := range strings.SplitSeq(m.of, ",") {
		part = strings.TrimSpace(part)
		switch {
		case part == "!"+r.ID:
			return false
		case part == r.ID || part == "*":
			found = true
		case part == "external:*":
			found = found || external()
		case part == "external:http:*":
			found = found || external() && strings.HasPrefix(r.URL, "http:")
		}
	}
	return found
}

// login is the header for a repository. One that would go over plain HTTP is not sent.
func (s *Settings) login(r Repository) (header, refused string) {
	login, ok := s.servers[r.ID]
	if !ok || login.user == "" && login.password == "" {
		return "", ""
	}
	if !fetch.Private(r.URL) {
		return "", "the login for the repository " + r.ID + " is not sent: it would go over plain HTTP; use https"
	}
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(login.user+":"+login.password)), ""
}
