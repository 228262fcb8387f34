package main

import (
	"fmt"
	"strings"
)

// growing is an input that can have any size, and a command that reads it.
type growing struct {
	name  string
	size  int // of the smaller input
	args  []string
	files func(n int) map[string]string
	exit  int
}

var (
	survey = []string{"survey"}
	rules  = []string{"adapt", "--rules", "{project}/rules.yaml"}
)

// many joins n texts, made of their number.
func many(n int, between, form string) string {
	var b strings.Builder
	for i := range n {
		if i > 0 {
			b.WriteString(between)
		}
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(form, "%+", fmt.Sprint(i+1)), "%", fmt.Sprint(i)))
	}
	return b.String()
}

// beside is a small npm project with one more file.
func beside(name string, text func(n int) string) func(n int) map[string]string {
	return func(n int) map[string]string {
		return map[string]string{"package.json": `{"dependencies": {"left": "^1.0.0"}}`, name: text(n)}
	}
}

// products are cases whose result itself is the product of two numbers that grow: of each module, all that it gets.
var products = map[string]bool{"maven: modules that need each other": true}

func keys(n int) string { return many(n, "", "k%: v\n") }

var cases = []growing{
	{"yaml: keys of a foreign lock", 1000, survey, beside("pnpm-lock.yaml", keys), 0},
	{"yaml: packages of a foreign lock", 1000, survey, beside("pnpm-lock.yaml", func(n int) string {
		return "lockfileVersion: '9.0'\nimporters:\n  .:\n    dependencies:\n      left: {specifier: ^1.0.0, version: 1.0.0}\npackages:\n" +
			many(n, "", "  'p%@1.0.0':\n    resolution: {integrity: sha512-x}\n")
	}), 0},
	{"yaml: fields of one package", 1000, survey, beside("pnpm-lock.yaml", func(n int) string {
		return "lockfileVersion: '9.0'\nimporters:\n  .:\n    dependencies:\n      left:\n        specifier: ^1.0.0\n        version: 1.0.0\n" +
			many(n, "", "        k%: v\n")
	}), 0},
	{"yaml: another foreign lock", 1000, survey, beside("yarn.lock", func(n int) string {
		return "__metadata:\n  version: 8\n" + many(n, "", "\"p%@npm:^1.0.0\":\n  version: 1.0.0\n  linkType: hard\n")
	}), 0},
	{"a foreign lock of lines", 1000, survey, beside("yarn.lock", func(n int) string {
		return many(n, "", "p%@^1.0.0:\n  version \"1.0.0\"\n\n")
	}), 0},
	{"yaml: keys of settings", 1000, survey, beside("bellwether.yaml", keys), 2},
	{"yaml: keys of a workspace", 1000, survey, beside("pnpm-workspace.yaml", keys), 0},
	{"yaml: keys of bridges", 1000, survey, beside(".bellwether/bridges.yaml", keys), 2},
	{"yaml: keys of to-dos", 1000, []string{"todo"}, beside(".bellwether/todos.yaml", keys), 2},
	{"yaml: keys of a book", 1000, []string{"books", "check", "{project}/rules.yaml"}, beside("rules.yaml", keys), 1},
	{"yaml: keys of a workflow", 1000, survey, beside(".github/workflows/ci.yml", keys), 0},
	{"yaml: steps of a workflow", 1000, survey, beside(".github/workflows/ci.yml", func(n int) string {
		return "jobs:\n  a:\n    steps:\n" + many(n, "", "      - uses: actions/setup-node@v4\n        with: {node-version: 20}\n")
	}), 0},
	{"yaml: one long line", 1000, survey, beside(".gitlab-ci.yml", func(n int) string {
		return "image: [" + many(n, ", ", "node:20.%") + "]\n"
	}), 0},
	{"images", 1000, survey, beside("Dockerfile", func(n int) string {
		return many(n, "", "FROM node:20.1.% AS a%\nCOPY --from=a% x x\n")
	}), 0},
	{"tools", 1000, survey, beside(".tool-versions", func(n int) string { return many(n, "", "nodejs 20.%\n") }), 0},
	{"npm: requirements", 300, survey, func(n int) map[string]string {
		return map[string]string{"package.json": `{"dependencies": {` + many(n, ",\n", `"p%": "^1.0.0"`) + `}}`}
	}, 0},
	{"npm: members", 30, survey, func(n int) map[string]string {
		files := map[string]string{"package.json": `{"workspaces": ["m/*"]}`}
		for i := range n {
			files[fmt.Sprintf("m/m%d/package.json", i)] = fmt.Sprintf(`{"name": "m%d", "version": "1.0.0", "dependencies": {"m%d": "*"}}`, i, i/2)
		}
		return files
	}, 0},
	{"npm: a lock", 300, survey, beside("package-lock.json", func(n int) string {
		return `{"lockfileVersion": 3, "packages": {"": {"dependencies": {"left": "^1.0.0"}}, "node_modules/left": {"version": "1.0.0"},` +
			many(n, ",\n", `"node_modules/q%": {"version": "1.0.0", "dependencies": {"q%+": "^1.0.0"}}`) + `}}`
	}), 0},
	{"npm: an older lock", 300, survey, beside("package-lock.json", func(n int) string {
		return `{"lockfileVersion": 1, "dependencies": {"left": {"version": "1.0.0"},` +
			many(n, ",\n", `"q%": {"version": "1.0.0", "requires": {"q%+": "^1.0.0"}}`) + `}}`
	}), 0},
	{"npm: settings", 1000, survey, beside(".npmrc", func(n int) string { return many(n, "", "@s%:registry=http://127.0.0.1:1/\n") }), 0},
	{"go: requirements", 100, survey, func(n int) map[string]string {
		return map[string]string{
			"go.mod": "module example.org/x\n\ngo 1.22\n\nrequire (\n" + many(n, "", "\texample.org/p% v1.0.0\n") + ")\n",
			"go.sum": many(n, "", "example.org/p% v1.0.0/go.mod h1:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=\n"),
		}
	}, 0},
	{"go: replacements", 300, survey, func(n int) map[string]string {
		return map[string]string{"go.mod": "module example.org/x\n\ngo 1.22\n\n" +
			many(n, "", "require example.org/p% v1.0.0\nreplace example.org/p% => example.org/r% v1.0.0\n")}
	}, 0},
	{"gems: requirements", 100, survey, func(n int) map[string]string {
		return map[string]string{
			"Gemfile": "source \"{server}/gems\"\n" + many(n, "", "gem \"p%\", \"~> 1.0\"\n"),
			"Gemfile.lock": "GEM\n  remote: {server}/gems/\n  specs:\n" + many(n, "", "    p% (1.0.0)\n      p%+ (>= 0)\n") +
				"    p" + fmt.Sprint(n) + " (1.0.0)\n\nPLATFORMS\n  ruby\n\nDEPENDENCIES\n" + many(n, "", "  p% (~> 1.0)\n"),
		}
	}, 0},
	{"gems: groups", 100, survey, func(n int) map[string]string {
		return map[string]string{"Gemfile": "source \"{server}/gems\"\n" + many(n, "", "group :g% do\n  gem \"p%\"\nend\n")}
	}, 0},
	{"maven: requirements", 100, survey, func(n int) map[string]string {
		return map[string]string{"pom.xml": pom("", "<dependencies>"+
			many(n, "\n", "<dependency><groupId>g</groupId><artifactId>a%</artifactId><version>1.0</version></dependency>")+"</dependencies>")}
	}, 0},
	{"maven: properties", 1000, survey, func(n int) map[string]string {
		return map[string]string{"pom.xml": pom("", "<properties>"+many(n, "\n", "<p%>1.0</p%>")+"</properties>")}
	}, 0},
	{"maven: properties of properties", 1000, survey, func(n int) map[string]string {
		return map[string]string{"pom.xml": pom("", "<properties>"+many(n, "\n", "<p%>${p%+}</p%>")+"</properties>")}
	}, 0},
	{"maven: modules that need each other", 40, survey, modules, 0},
	{"rules: a name in many places", 1000, rules, source(`rename: {old: q, new: zz}
      examples: [{file: a.js, before: "q()\n", after: "zz()\n"}]`, "q();\n"), 0},
	{"rules: a to-do in many places", 1000, rules, source(`todo: {word: "q", text: t}
      examples: [{file: a.js, before: "q()\n"}]`, "q();\n"), 0},
	{"rules: to-dos that are noted", 1000, append(rules, "--apply"), source(`todo: {word: "q", text: t}
      examples: [{file: a.js, before: "q()\n"}]`, "q();\n"), 0},
	{"rules: two for the same places", 1000, rules, func(n int) map[string]string {
		return map[string]string{"package.json": "{}", "src/x.js": many(n, "", "q(%);\n"), "rules.yaml": "schema: bellwether/book/1\nrules:\n" +
			`  - {id: a, because: x, adapt: {rename: {old: q, new: r}, examples: [{file: a.js, before: "q()\n", after: "r()\n"}]}}` + "\n" +
			`  - {id: b, because: x, adapt: {rename: {old: r, new: s}, examples: [{file: a.js, before: "r()\n", after: "s()\n"}]}}` + "\n"}
	}, 0},
	{"rules: one long line", 1000, rules, func(n int) map[string]string {
		return map[string]string{"package.json": "{}", "src/x.ts": many(n, "", "q(%);") + strings.Repeat("\n", n), "rules.yaml": book(
			`rename: {old: q, new: zz}
      examples: [{file: a.js, before: "q()\n", after: "zz()\n"}]`)}
	}, 0},
	{"rules: scopes in scopes", 300, rules, func(n int) map[string]string {
		text := strings.Repeat("function f(q){ q();\n", n) + strings.Repeat("}\n", n)
		return map[string]string{"package.json": "{}", "src/x.js": text, "rules.yaml": book(
			`rename: {old: q, new: zz}
      examples: [{file: a.js, before: "q()\n", after: "zz()\n"}]`)}
	}, 0},
	{"rules: functions of functions", 1000, rules, source(`rename: {old: q, new: zz}
      examples: [{file: a.js, before: "q()\n", after: "zz()\n"}]`, "q =>\n"), 0},
	{"rules: a shape in many places", 1000, rules, source("pattern: {find: \"f(`a`)\", put: \"g(`a`)\"}\n      "+
		`examples: [{file: a.js, before: "f(1)\n", after: "g(1)\n"}]`, "f(1);\n"), 0},
	{"rules: shapes that hold each other", 100, rules, func(n int) map[string]string {
		all := source("pattern: {find: \"f(`a`)\", put: \"g(`a`)\"}\n      "+`examples: [{file: a.js, before: "f(1)\n", after: "g(1)\n"}]`, "")(n)
		all["src/x.js"] = strings.Repeat("f(\n", n) + "x" + strings.Repeat(")\n", n)
		return all
	}, 0},
	{"rules: many rules", 30, rules, func(n int) map[string]string {
		return map[string]string{
			"package.json": "{}",
			"src/x.js":     many(1000, "", "q%();\n"),
			"rules.yaml": "schema: bellwether/book/1\nrules:\n" + many(n, "",
				`  - {id: r%, because: x, adapt: {rename: {old: q%, new: z%}, examples: [{file: a.js, before: "q%()\n", after: "z%()\n"}]}}`+"\n"),
		}
	}, 0},
	{"rules: a key in many places", 300, rules, func(n int) map[string]string {
		return map[string]string{
			"package.json": "{}",
			"config/x.yml": many(n, "", "s%:\n  a: 1\n"),
			"rules.yaml": book(`files: ["**/*.yml"]
      key: {old: "*.a", new: "*.b"}
      examples: [{file: config/a.yml, before: "s:\n  a: 1\n", after: "s:\n  b: 1\n"}]`),
		}
	}, 0},
}

func book(adapt string) string {
	return "schema: bellwether/book/1\nrules:\n  - id: r\n    because: x\n    adapt:\n      " + adapt + "\n"
}

// source is a file of source that repeats a text, and a rule for it.
func source(adapt, text string) func(n int) map[string]string {
	return func(n int) map[string]string {
		return map[string]string{"package.json": "{}", "rules.yaml": book(adapt), "src/x.js": strings.Repeat(text, n)}
	}
}

// pom is a description of a Maven project.
func pom(artifact, rest string) string {
	const itself = "<groupId>me</groupId><artifactId>p</artifactId><version>1</version>"
	head := itself
	if artifact != "" {
		head = "<parent>" + itself + "</parent><artifactId>" + artifact + "</artifactId>"
	}
	return "<project><modelVersion>4.0.0</modelVersion>" + head + rest + "</project>"
}

// modules are those of one project, of which each needs the twenty before it.
func modules(n int) map[string]string {
	files := map[string]string{
		"pom.xml": pom("", "<packaging>pom</packaging><modules>"+many(n, "", "<module>m%</module>")+"</modules>"),
	}
	for i := range n {
		needs := ""
		for k := max(0, i-20); k < i; k++ {
			needs += fmt.Sprintf("<dependency><groupId>me</groupId><artifactId>m%d</artifactId><version>1</version></dependency>", k)
		}
		name := fmt.Sprintf("m%d", i)
		files[name+"/pom.xml"] = pom(name, "<dependencies>"+needs+"</dependencies>")
	}
	return files
}
