package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/mod/sumdb/note"

	"bellwether/internal/host/run"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/standin/verdict"
)

func TestMain(m *testing.M) {
	os.Unsetenv("NODE_EXTRA_CA_CERTS") // stand-ins are on loopback
	testscript.Main(verdict.Runner{M: m, Book: book}, map[string]func(){
		"bellwether": func() { os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr)) },
	})
}

// TestScripts runs the built program on files in a temporary folder. Besides
// testscript's own commands there are
//
//	conforms                     what was printed last follows the schema that it names
//	registry FILE [FAULT PATH]   serve the universe in FILE; npm_config_registry
//	                             names it. FAULT is what happens at PATH: 401,
//	                             404, hang, cut, html, integrity
//	modules FILE [FAULT PATH]    the same for Go modules, with GOPROXY; further
//	                             faults are 410, tampered and escaping (archives)
//	gems FILE [FAULT PATH]       the same for gems, as the mirror of http://gems.example/
//	sums FILE                    serve a checksum database of modules, with GOSUMDB
//	page FILE                    serve a file at PAGE_URL; without FILE, stop
//	repage FILE                  serve another file there
//	commit                       make a git repository of the work folder, or
//	                             commit what has changed
//	status N CMD ARGS            run a command that must exit with status N
//	small-disk FOLDER SIZE       make a folder on a disk of its own (condition [disks])
//	fill FOLDER                  leave no room on its disk
//	interrupt FILE CMD ARGS      run a command, and interrupt it once FILE is there
//	hangup FILE CMD ARGS         the same, as if its terminal went
//	client CMD ARGS              run a package client that is to succeed, or do what it did
//	                             when it was asked the same before
func TestScripts(t *testing.T) {
	t.Parallel()
	cache := goCache()
	testscript.Run(t, testscript.Params{
		Dir:      "testdata/script",
		TestWork: os.Getenv("TESTSCRIPT_KEEP") != "",
		Setup: func(e *testscript.Env) error {
			e.Setenv("HOME", filepath.Join(e.WorkDir, ".home"))
			e.Setenv("XDG_CACHE_HOME", filepath.Join(e.WorkDir, ".home", "cache"))
			e.Setenv("npm_config_cache", filepath.Join(e.WorkDir, ".home", "npm"))
			e.Setenv("npm_config_userconfig", filepath.Join(e.WorkDir, ".home", "npmrc"))
			e.Setenv("npm_config_update_notifier", "false")
			e.Setenv("npm_config_fetch_retries", "0")
			for name, value := range map[string]string{
				"GOMODCACHE": filepath.Join(e.WorkDir, ".home", "modules"), "GOCACHE": cache, "GOFLAGS": "-modcacherw",
				"GOSUMDB": "off", "GOTOOLCHAIN": "local", "GOENV": filepath.Join(e.WorkDir, ".home", "go-env"),
				"GOPATH": filepath.Join(e.WorkDir, ".home", "go"),
			} {
				e.Setenv(name, value)
			}
			for _, who := range []string{"AUTHOR", "COMMITTER"} {
				e.Setenv("GIT_"+who+"_NAME", "Crew")
				e.Setenv("GIT_"+who+"_EMAIL", "crew@saltmarsh.example")
			}
			e.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
			if err := seedTools(filepath.Join(e.WorkDir, ".home", "cache", "bellwether", "tools.json")); err != nil {
				return err
			}
			e.Values["page"], e.Values["given"] = &pageServer{}, &served{}
			return nil
		},
		Condition: func(cond string) (bool, error) {
			if cond == "npm" {
				_, err := exec.LookPath("npm")
				if err != nil && verdict.Required() {
					return false, err
				}
				return err == nil, nil
			}
			if cond == "disks" {
				return mayMount(), nil
			}
			return false, fmt.Errorf("unknown condition %q", cond)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"registry": serveRegistry, "gems": serveGems, "artifacts": serveArtifacts, "conforms": conforms,
			"modules": serveModules, "sums": serveSums, "page": servePage, "repage": changePage,
			"commit": commit, "status": wantStatus, "interrupt": interrupt, "hangup": hangUp,
			"small-disk": smallDisk, "fill": fillDisk, "client": askClient,
		},
	})
}

// book has what clients said before.
var book = verdict.Open("testdata/verdicts.json")

// askClient asks a client, or does what it did before. It must succeed.
func askClient(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: client CMD ARGS")
	}
	work := ts.Getenv("WORK")
	here, err := filepath.Rel(work, ts.MkAbs("."))
	ts.Check(err)
	given := ts.Value("given").(*served).text()
	for _, name := range []string{"npm_config_legacy_peer_deps", "npm_config_lockfile_version", "npm_config_omit", "GOFLAGS", "GOWORK"} {
		given += "\n" + name + "=" + ts.Getenv(name)
	}
	_, err = book.Ask(verdict.Case{
		About: ts.Name(), Client: args[0], Question: append(slices.Clone(args[1:]), "in "+filepath.ToSlash(here)), Dir: work, Given: given,
		Words: map[string]string{
			"registry": strings.TrimSuffix(ts.Getenv("npm_config_registry"), "/"), "proxy": ts.Getenv("GOPROXY"), "work": work,
		},
	}, func() (string, error) { return "", ts.Exec(args[0], args[1:]...) })
	ts.Check(err)
}

// served is what stand-ins serve in a script, for all that clients say depends on it.
type served struct{ parts []string }

func (s *served) text() string { return strings.Join(s.parts, "\n") }

// add notes what is served by one kind of stand-in from now on.
func (s *served) add(ts *testscript.TestScript, kind string, args []string) {
	s.parts = slices.DeleteFunc(s.parts, func(part string) bool { return strings.HasPrefix(part, kind+" ") })
	s.parts = append(s.parts, kind+" "+strings.Join(args[1:], " ")+"\n"+ts.ReadFile(args[0]))
}

func serveRegistry(ts *testscript.TestScript, _ bool, args []string) {
	ts.Value("given").(*served).add(ts, "registry", args)
	u, err := shorthand.Load(ts.ReadFile(args[0]))
	ts.Check(err)
	url := serve(ts, u.NPM(), args)
	ts.Setenv("npm_config_registry", url+"/")
	ts.Setenv("REGISTRY_HOST", strings.TrimPrefix(url, "http://"))
}

func serveGems(ts *testscript.TestScript, _ bool, args []string) {
	ts.Value("given").(*served).add(ts, "gems", args)
	gems, err := shorthand.Gems(ts.ReadFile(args[0]))
	ts.Check(err)
	ts.Setenv("BUNDLE_MIRROR__HTTP://GEMS__EXAMPLE/", serve(ts, gems.Index(), args)+"/")
}

// serveArtifacts serves a repository of the Maven layout in the place of all others.
func serveArtifacts(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 1 && len(args) != 3 {
		ts.Fatalf("usage: artifacts FILE [FAULT PATH]")
	}
	artifacts, err := shorthand.Artifacts(ts.ReadFile(args[0]))
	ts.Check(err)
	url := serve(ts, artifacts.Repository(), args)
	home := filepath.Join(ts.Getenv("WORK"), ".home")
	ts.Check(os.MkdirAll(filepath.Join(home, ".m2"), 0o755))
	ts.Check(os.WriteFile(filepath.Join(home, ".m2", "settings.xml"), []byte(
		"<settings><mirrors><mirror><id>pier</id><mirrorOf>*</mirrorOf><url>"+url+"</url></mirror></mirrors></settings>"), 0o644))
	ts.Setenv("HOME", home)
}

// serve serves for the time of a script, with the fault that args name after
// the universe.
func serve(ts *testscript.TestScript, handler http.Handler, args []string) (url string) {
	if len(args) == 3 {
		handler = faulty(handler, args[1], args[2])
	}
	server := httptest.NewServer(handler)
	ts.Defer(func() {
		server.CloseClientConnections()
		server.Close()
	})
	return server.URL
}

// tools is what installed programs say of their versions, asked once for all scripts.
var tools = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "bellwether-tools-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	p := &run.Prober{File: filepath.Join(dir, "tools.json"), MaxAge: time.Hour}
	for _, tool := range [][]string{
		{"node", "--version"}, {"npm", "--version"}, {"go", "version"}, {"go", "env", "GOVERSION"}, {"java", "-version"},
	} {
		_, _ = p.Ask(context.Background(), tool...) // one that is missing is missed by who needs it
	}
	return os.ReadFile(p.File)
})

// seedTools lets a script's program know what tools say.
func seedTools(file string) error {
	data, err := tools()
	if err != nil {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return os.WriteFile(file, data, 0o600)
}

// goCache is the go command's own build cache, which tests share for speed.
func goCache() string {
	out, err := exec.Command("go", "env", "GOCACHE").Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

func serveModules(ts *testscript.TestScript, _ bool, args []string) {
	ts.Value("given").(*served).add(ts, "modules", args)
	u, err := shorthand.Modules(ts.ReadFile(args[0]))
	ts.Check(err)
	url := serve(ts, u.Proxy(), args)
	ts.Setenv("GOPROXY", url)
	ts.Setenv("PROXY_HOST", strings.TrimPrefix(url, "http://"))
}

func servePage(ts *testscript.TestScript, _ bool, args []string) {
	if len(args) == 0 {
		ts.Value("page").(*pageServer).Close()
		return
	}
	text := ts.ReadFile(args[0])
	page := ts.Value("page").(*pageServer)
	page.text.Store(&text)
	page.Server = httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(*page.text.Load())) }),
	)
	server := page.Server
	ts.Setenv("PAGE_URL", server.URL+"/pier.yaml")
	ts.Setenv("PAGE_SHA256", fmt.Sprintf("%x", sha256.Sum256([]byte(text))))
}

// pageServer serves a script's page.
type pageServer struct {
	*httptest.Server
	text atomic.Pointer[string]
}

// changePage serves another text at the page's address.
func changePage(ts *testscript.TestScript, _ bool, args []string) {
	text := ts.ReadFile(args[0])
	ts.Value("page").(*pageServer).text.Store(&text)
}

func serveSums(ts *testscript.TestScript, _ bool, args []string) {
	u, err := shorthand.Modules(ts.ReadFile(args[0]))
	ts.Check(err)
	private, public, err := note.GenerateKey(rand.Reader, "sums.example")
	ts.Check(err)
	handler, err := u.Sums(private)
	ts.Check(err)
	ts.Setenv("GOSUMDB", public+" "+serve(ts, handler, args)+"/sumdb/sums.example")
}

// archive is a module archive with the files of another, and one more.
func archive(whole []byte, name string) []byte {
	from, err := zip.NewReader(bytes.NewReader(whole), int64(len(whole)))
	if err != nil {
		return nil
	}
	var buf bytes.Buffer
	to := zip.NewWriter(&buf)
	for _, f := range from.File {
		if err := to.Copy(f); err != nil {
			return nil
		}
	}
	prefix, _, _ := strings.Cut(from.File[0].Name, "@")
	v, _, _ := strings.Cut(strings.TrimPrefix(from.File[0].Name, prefix+"@"), "/")
	if w, err := to.Create(prefix + "@" + v + "/" + name); err == nil {
		_, _ = w.Write([]byte("package x\n"))
	}
	_ = to.Close()
	return buf.Bytes()
}

var integrity = regexp.MustCompile(`sha512-[A-Za-z0-9+/]{4}`)

// faulty is a registry that misbehaves at one path.
func faulty(good http.Handler, fault, path string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != path {
			good.ServeHTTP(w, r)
			return
		}
		r.Header.Del("Accept-Encoding")
		record := httptest.NewRecorder()
		good.ServeHTTP(record, r)
		body := record.Body.Bytes()
		switch fault {
		case "401":
			w.WriteHeader(http.StatusUnauthorized)
		case "404":
			w.WriteHeader(http.StatusNotFound)
		case "410":
			w.WriteHeader(http.StatusGone)
		case "tampered":
			_, _ = w.Write(archive(body, "more.go"))
		case "escaping":
			_, _ = w.Write(archive(body, "../../../../escaped.go"))
		case "hang":
			<-r.Context().Done()
		case "cut":
			w.Header().Set("Content-Length", fmt.Sprint(len(body)))
			_, _ = w.Write(body[:len(body)/2])
		case "html":
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte("<html>please log in to the harbour's network</html>"))
		case "integrity":
			all := integrity.FindAllIndex(body, -1)
			newest := all[len(all)-1]
			copy(body[newest[0]:newest[1]], "sha512-AAAA")
			_, _ = w.Write(body)
		}
	})
}

// commit has a date that stays, so that a commit has the same name in every run: what a client
// says of a repository can be kept.
func commit(ts *testscript.TestScript, _ bool, _ []string) {
	if _, err := os.Stat(ts.MkAbs(".git")); err != nil {
		if _, err := os.Stat(ts.MkAbs(".gitignore")); err != nil {
			ts.Check(os.WriteFile(ts.MkAbs(".gitignore"), []byte(".home/\nnode_modules/\nuniverse\n.tmp/\n"), 0o644))
		}
		ts.Check(ts.Exec("git", "init", "-q", "-b", "main"))
	}
	ts.Check(ts.Exec("git", "add", "-A"))
	const date = "2026-03-02T09:00:00Z"
	ts.Check(ts.Exec("env", "GIT_COMMITTER_DATE="+date, "git", "commit", "-q", "--date", date, "-m", "as it is"))
}

func wantStatus(ts *testscript.TestScript, _ bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	got := 0
	if exit, ok := err.(*exec.ExitError); ok {
		got = exit.ExitCode()
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if fmt.Sprint(got) != args[0] {
		ts.Fatalf("exit status %d, want %s", got, args[0])
	}
}

func interrupt(ts *testscript.TestScript, _ bool, args []string) { endBy(ts, syscall.SIGINT, args) }

func hangUp(ts *testscript.TestScript, _ bool, args []string) { endBy(ts, syscall.SIGHUP, args) }

// endBy runs a command, and sends it a signal once a file is there.
func endBy(ts *testscript.TestScript, by syscall.Signal, args []string) {
	if signal.Ignored(by) { // the tests run under nohup, say; the command is not to inherit that
		signal.Notify(make(chan os.Signal, 1), by)
		defer signal.Ignore(by)
	}
	var out bytes.Buffer
	cmd := exec.Command(
		filepath.Join(os.Getenv("PATH")[:strings.Index(os.Getenv("PATH"), string(os.PathListSeparator))], args[1]),
		args[2:]...)
	cmd.Dir = ts.Getenv("WORK")
	cmd.Env = append(
		os.Environ(),
		"HOME="+ts.Getenv("HOME"),
		"XDG_CACHE_HOME="+ts.Getenv("XDG_CACHE_HOME"),
		"npm_config_registry="+ts.Getenv(
			"npm_config_registry",
		),
		"npm_config_cache="+ts.Getenv("npm_config_cache"),
		"GIT_CONFIG_GLOBAL="+os.DevNull,
		"TEST_SLEEP="+ts.Getenv("TEST_SLEEP"),
		"TEST_EXIT="+ts.Getenv("TEST_EXIT"),
	)
	cmd.Stdout, cmd.Stderr = &out, &out
	ts.Check(cmd.Start())
	mark := ts.MkAbs(args[0])
	for range 200 {
		if _, err := os.Stat(mark); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	ts.Check(cmd.Process.Signal(by))
	_ = cmd.Wait()
	ts.Logf("%s", out.String())
	if got := cmd.ProcessState.ExitCode(); got != exitInterrupted {
		ts.Fatalf("exit status %d, want %d", got, exitInterrupted)
	}
}

// conforms sees that what was printed last follows the schema that it names.
func conforms(ts *testscript.TestScript, _ bool, _ []string) {
	text := ts.ReadFile("stdout")
	named := regexp.MustCompile(`"schema": "bellwether/([a-z-]+)/1"`).FindStringSubmatch(text)
	if named == nil {
		ts.Fatalf("it names no schema: %s", text)
	}
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join(schemas, named[1]+".json"))
	ts.Check(err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	ts.Check(err)
	ts.Check(schema.Validate(value))
}

// schemas is the folder of the schemas of outputs; scripts work elsewhere.
var schemas, _ = filepath.Abs("../../docs/schema/output")
