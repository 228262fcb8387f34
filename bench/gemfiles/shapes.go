package main

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
)

// shape is a Gemfile with the files around it.
type shape struct {
	manifest string            // Gemfile or gems.rb
	features []string          // what it has besides plain gems
	files    map[string]string // by name, the Gemfile among them
}

// feature is something that applications write into a Gemfile.
type feature struct {
	name  string
	lines string
	files map[string]string
	head  bool // it stands above all gems
}

// features are what shapes are made of. Of those at the head at most one is taken.
var features = []feature{
	{name: "ruby of one version", lines: "ruby \"3.1.2\"\n", head: true},
	{name: "ruby of a range", lines: "ruby \">= 2.7\", \"< 4\"\n", head: true},
	{
		name: "ruby from a file", lines: "ruby File.read(\".ruby-version\").strip\n", files: map[string]string{".ruby-version": "3.1.2\n"},
		head: true,
	},
	{name: "groups", lines: `group :development, :test do
  gem "testmast", "~> 3.11"
  gem "buoys"
end
group :development do
  gem "reefcop", "~> 1.50", require: false
  gem "reefcop-gantline", require: false
end
`},
	{name: "an optional group", lines: "group :tools, optional: true do\n  gem \"springline\", \"~> 4.1\"\nend\n"},
	{name: "platforms", lines: "gem \"winclock\", platforms: [:mingw, :mswin, :x64_mingw]\n" +
		"platforms :ruby do\n  gem \"pageline\", \"~> 1.4\"\nend\n"},
	{name: "a condition of the environment", lines: `if ENV["EDGE"] == "1"
  gem "sheetfold", "3.0.0.pre1"
else
  gem "sheetfold", "~> 2.1"
end
`},
	{name: "install_if", lines: "install_if -> { RUBY_PLATFORM =~ /darwin/ } do\n  gem \"darkfs\", \"~> 0.11.0\"\nend\n"},
	{name: "a source of one's own", lines: "source \"http://private.example\" do\n  gem \"harbour-auth\", \"~> 1.4\"\nend\n"},
	{name: "an engine", lines: "gem \"dock\", path: \"engines/dock\"\n", files: map[string]string{
		"engines/dock/dock.gemspec": `Gem::Specification.new do |spec|
  spec.name = "dock"
  spec.version = "0.1.0"
  spec.summary = "Docks"
  spec.authors = ["Crew"]
  spec.files = Dir["lib/**/*"]
  spec.add_dependency "gantline-base", ">= 6.0"
  spec.add_dependency "pooled", ">= 2.2", "< 4"
end
`,
		"engines/dock/lib/dock.rb": "",
	}},
	{name: "eval_gemfile", lines: "eval_gemfile \"Gemfile.more\"\n", files: map[string]string{
		"Gemfile.more": "gem \"keelcache\", \"~> 5.0.0\"\n",
	}},
	{name: "several requirements", lines: "gem \"portside\", \">= 5.6\", \"< 7\"\n"},
	{name: "an exact one", lines: "gem \"zonedata\", \"1.2022.7\"\n"},
	{name: "a comment and options", lines: "gem 'weblamp', '~> 4.2', '>= 4.2.0', group: :development # the old ones leak\n"},
	{name: "a variable", lines: "queue = \"~> 6.4\"\ngem \"sailqueue\", queue\n"},
	{name: "git_source", lines: "git_source(:harbour) { |name| \"https://git.example/#{name}.git\" }\n"},
	{name: "lockbolt of platforms", lines: "gem \"lockbolt\", \"~> 1.13\"\n"},
}

// drawn is a shape by chance: a framework, some plain gems and three to six features.
func drawn(n int) shape {
	rng := rand.New(rand.NewPCG(uint64(n), 30))
	s := shape{manifest: []string{"Gemfile", "Gemfile", "Gemfile", "gems.rb"}[rng.IntN(4)], files: map[string]string{}}
	var head, body strings.Builder
	head.WriteString("source \"http://gems.example\"\n")
	asked := []string{"~> 6.0.6", "~> 6.1.0", "~> 7.0.0", "~> 7.0", ">= 6.1", "7.0.0"}[rng.IntN(6)]
	if rng.IntN(4) == 0 {
		for _, name := range []string{"gantline-base", "gantline-record", "gantline-line"} {
			fmt.Fprintf(&body, "gem %q, %q\n", name, asked)
		}
	} else {
		fmt.Fprintf(&body, "gem %q, %q\n", "gantline", asked)
	}
	plain := []string{"moorlogin", "orchard", "rackline-sieve", "racy"}
	for _, at := range rng.Perm(len(plain))[:1+rng.IntN(3)] {
		fmt.Fprintf(&body, "gem %q\n", plain[at])
	}
	headed := false
	for _, at := range rng.Perm(len(features))[:3+rng.IntN(4)] {
		f := features[at]
		if f.head && headed {
			continue
		}
		headed = headed || f.head
		s.features = append(s.features, f.name)
		if f.head {
			head.WriteString(f.lines)
		} else {
			body.WriteString(f.lines)
		}
		maps.Copy(s.files, f.files)
	}
	s.files[s.manifest] = head.String() + body.String()
	return s
}
