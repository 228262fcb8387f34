package mavenrepo

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
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
	given        map[string][]string // the addresses that the person's own settings give, by identifier
	servers      map[string]server
	localStated  bool
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

// ReadSettings reads the person's settings: those in the home folder, and after them those of the installed client.
// Files that are missing state nothing.
func ReadSettings(s ecosystem.Surroundings, in *Environment) (*Settings, error) {
	read := newSettings()
	var files []string
	if s.Home != "" {
		read.Local = filepath.Join(s.Home, ".m2", "repository")
		files = append(files, filepath.Join(s.Home, ".m2", "settings.xml"))
	}
	if home := clientHome(s); home != "" {
		files = append(files, filepath.Join(home, "conf", "settings.xml"))
	}
	for _, file := range files {
		text, err := within.Plain(file, maxSettings)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("reading Maven's settings: %w", err)
		}
		root, err := xmldoc.Parse(file, text)
		if err != nil {
			return nil, err
		}
		read.take(root, s, in, true)
	}
	return read, nil
}

func newSettings() *Settings {
	return &Settings{servers: map[string]server{}, given: map[string][]string{}}
}

// clientHome is the folder of the installed client, "" for none.
func clientHome(s ecosystem.Surroundings) string {
	for _, name := range []string{"MAVEN_HOME", "M2_HOME"} {
		if home := s.Env(name); filepath.IsAbs(home) {
			return home
		}
	}
	if s.Find == nil {
		return ""
	}
	program, err := s.Find("mvn")
	if err != nil || filepath.Base(filepath.Dir(program)) != "bin" {
		return ""
	}
	return filepath.Dir(filepath.Dir(program))
}

// TakeProject adds the mirrors and repositories of a file of settings that the project itself names. They are asked
// without the person's logins.
func (s *Settings) TakeProject(file string, text []byte, around ecosystem.Surroundings, in *Environment) error {
	root, err := xmldoc.Parse(file, text)
	if err != nil {
		return err
	}
	s.take(root, around, in, false)
	return nil
}

var variable = lazyregexp.New(`\$\{env\.[^}]*\}`)

// take reads what a file of settings states. What was read before comes first. Of a file that is not the person's own,
// neither logins nor variables, the proxy or the local repository count.
func (s *Settings) take(root *xmldoc.Element, around ecosystem.Surroundings, in *Environment, own bool) {
	expand := func(text string) string {
		if !own {
			return text
		}
		text = variable.ReplaceAllStringFunc(text, func(v string) string { return around.Env(v[len("${env.") : len(v)-1]) })
		return strings.ReplaceAll(text, "${user.home}", around.Home)
	}
	for _, m := range root.Child("mirrors").All("mirror") {
		s.mirrors = append(s.mirrors, mirror{
			Repository{ID: m.Value("id"), URL: expand(m.Value("url")), Declared: !own}, m.Value("mirrorOf"), m.Value("blocked") == "true",
		})
	}
	if own {
		s.takeOwn(root, around, expand)
	}
	active := *in
	active.Chosen = maps.Clone(in.Chosen)
	for _, a := range root.Child("activeProfiles").All("activeProfile") {
		if _, named := active.Chosen[a.Text]; !named {
			if active.Chosen == nil {
				active.Chosen = map[string]bool{}
			}
			active.Chosen[a.Text] = true
		}
	}
	for _, p := range active.Active(root.Child("profiles").All("profile"), nil) {
		for _, r := range p.Child("repositories").All("repository") {
			one := ReadRepository(r, expand)
			one.Declared = !own
			s.Repositories = append(s.Repositories, one)
		}
	}
}

// takeOwn reads what only the person's own settings may state.
func (s *Settings) takeOwn(root *xmldoc.Element, around ecosystem.Surroundings, expand func(string) string) {
	s.give(root, expand)
	if local := expand(root.Value("localRepository")); filepath.IsAbs(local) && !s.localStated {
		s.Local, s.localStated = local, true
	}
	for _, one := range root.Child("servers").All("server") {
		id, password := one.Value("id"), expand(one.Value("password"))
		if strings.HasPrefix(password, "{") && strings.HasSuffix(password, "}") {
			around.Note("the password for " + id + " in Maven's settings is encrypted, and is not used here")
			continue
		}
		if _, known := s.servers[id]; !known {
			s.servers[id] = server{expand(one.Value("username")), password}
		}
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

// errBlocked is the error of a repository that settings keep from being asked.
var errBlocked = errors.New("Maven's settings block the repository")

// mirrored is what is asked in the place of a repository: the first mirror whose pattern is about it
// (Maven: Guide to Mirror Settings).
func (s *Settings) mirrored(r Repository) (Repository, error) {
	for _, m := range s.mirrors {
		if !m.stands(r) {
			continue
		}
		if m.blocked {
			return r, fmt.Errorf("%w %s", errBlocked, r.ID)
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

// login is the header for a repository. It goes to the addresses alone that the person's own settings give under the
// identifier of the login, and not over plain HTTP.
func (s *Settings) login(r Repository) (header, refused string) {
	login, ok := s.servers[r.ID]
	if !ok || login.user == "" && login.password == "" {
		return "", ""
	}
	if r.Declared && !slices.ContainsFunc(s.given[r.ID], func(address string) bool { return isBelow(r.URL, address) }) {
		return "", "the login " + r.ID + " is not sent to " + harmless.Address(r.URL) +
			", an address that your own settings do not give under that name; if it may go there, write the repository, or a mirror of it, " +
			"with the id " + r.ID + " into your own settings.xml"
	}
	if !fetch.Private(r.URL) {
		return "", "the login for the repository " + r.ID + " is not sent: it would go over plain HTTP; use https"
	}
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(login.user+":"+login.password)), ""
}

// give notes the addresses that the person's own settings give: of mirrors, of repositories and those of plug-ins in
// profiles, active or not, and of the targets of uploads, which are properties of the form "id::address".
func (s *Settings) give(root *xmldoc.Element, expand func(string) string) {
	note := func(id, address string) {
		if id != "" && address != "" {
			s.given[id] = append(s.given[id], expand(address))
		}
	}
	for _, m := range root.Child("mirrors").All("mirror") {
		note(m.Value("id"), m.Value("url"))
	}
	for _, p := range root.Child("profiles").All("profile") {
		for _, list := range [][2]string{{"repositories", "repository"}, {"pluginRepositories", "pluginRepository"}} {
			for _, r := range p.Child(list[0]).All(list[1]) {
				note(r.Value("id"), r.Value("url"))
			}
		}
		for _, name := range []string{"altDeploymentRepository", "altReleaseDeploymentRepository", "altSnapshotDeploymentRepository"} {
			target := p.Child("properties").Value(name)
			id, _, _ := strings.Cut(target, "::")
			if at := strings.LastIndex(target, "::"); at > 0 {
				note(id, target[at+len("::"):])
			}
		}
	}
}

// isBelow tells whether an address is another one, or lies below it on the same host.
func isBelow(text, above string) bool {
	one, err := url.Parse(text)
	other, oerr := url.Parse(above)
	if err != nil || oerr != nil || one.Host == "" || one.Scheme != other.Scheme || !strings.EqualFold(one.Host, other.Host) {
		return false
	}
	below := path.Clean("/" + one.Path)
	top := path.Clean("/" + other.Path)
	return one.RawPath == "" && (below == top || top == "/" || strings.HasPrefix(below, top+"/"))
}
