package gem

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/registry"
)

// told are the gems of a Gemfile in a line each.
func told(g *gemfile.Gemfile) (lines []string) {
	for _, d := range g.Gems {
		line := fmt.Sprintf("%d %s [%s] %s", d.Line, d.Name, d.Rng, d.Group)
		for _, more := range []string{d.Fixed, d.Source} {
			if more != "" {
				line += " (" + more + ")"
			}
		}
		lines = append(lines, line)
	}
	return lines
}

func TestGemfile(t *testing.T) {
	src := `# gem "comment"
source "https://gems.example"
ruby "3.1.2"
gem 'one'
gem "two", "~> 1.0", '>= 1.0.2', require: false # two
gem("three", "= 3")
gem 'four', ['~> 4.0', '< 4.5'], :group => :test
group :development, :test do
  gem "five", git: "https://code.example/five.git", branch: "main"
  gem "six", path: "../six"
  platforms :ruby do
    gem "seven", "7.0"
  end
end
source "https://other.example" do
  gem "eight", "8"
end
gem "nine", VERSION
gem "ten", "10" if ENV["TEN"]
if RUBY_VERSION > "3"
  gem "eleven", "11"
else
  gem "twelve", "12"
end
%w[rspec-core rspec-mocks].each { |lib| }
%w[spec-core spec-mocks].each do |lib|
  gem lib, "~> 3"
end
gem lib, "~> 4"
gem "thirteen", github: "pier/thirteen", groups: [:a, :b]
gem "fourteen",
    "~> 14.0", # why
    ">= 14.0.1"
text = <<~EOS
  gem "heredoc"
EOS
gem "fifteen", "15"; gem "sixteen", "16", source: "https://third.example"
eval_gemfile "more/Gemfile"
`
	files := fstest.MapFS{"Gemfile": {Data: []byte(src)}, "more/Gemfile": {Data: []byte("gem 'seventeen', '17'\n")}}
	g, err := gemfile.Read(files, "Gemfile", []byte(src))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"4 one [] default", "5 two [~> 1.0, >= 1.0.2] default", "6 three [= 3] default", "7 four [~> 4.0, < 4.5] test",
		"9 five [] development, test (git source)", "10 six [] development, test (path source)", "12 seven [7.0] development, test",
		"16 eight [8] default (https://other.example)", "18 nine [] default (its version is computed)", "19 ten [10] default (it " +
			"stands in a condition)",
		"21 eleven [11] default (it stands in a condition)", "23 twelve [12] default (it stands in a condition)",
		"27 spec-core [~> 3] default (one line of a loop states it for several)", "27 spec-mocks [~> 3] default (one line of a " +
			"loop states it for several)",
		"30 thirteen [] a, b (git source)", "31 fourteen [~> 14.0, >= 14.0.1] default", "37 fifteen [15] default",
		"37 sixteen [16] default (https://third.example)", "1 seventeen [17] default",
	}, told(g))
	assert.Equal(t, []string{"https://gems.example"}, g.Sources)
	assert.Equal(t, []string{"Gemfile:29 declares a gem whose name is computed; it is not moved"}, g.Notes)
	for _, d := range g.Gems {
		if d.Site.Text != "" && d.File == "Gemfile" {
			assert.Equal(t, d.Site.Text, src[d.Site.Start:d.Site.End])
		}
	}
}

func TestLock(t *testing.T) {
	src := `GIT
  remote: https://code.example/five.git
  revision: 0123456789012345678901234567890123456789
  branch: main
  specs:
    five (0.5.0)
      rack (>= 1.0)

GEM
  remote: https://gems.example/
  specs:
    native (1.0.0)
    native (1.0.0-x86_64-linux)
    rack (2.0.0)

PLATFORMS
  ruby
  x86_64-linux

DEPENDENCIES
  five!
  native (~> 1.0)

CHECKSUMS
  native (1.0.0) sha256=aa

RUBY VERSION
   ruby 3.1.2p20

BUNDLED WITH
   2.3.15
`
	l, err := lock.Read("Gemfile.lock", []byte(src))
	require.NoError(t, err)
	assert.Equal(t, src, string(l.Write()))
	assert.Equal(t, []string{"ruby", "x86_64-linux"}, l.Platforms)
	assert.Equal(t, "1.0.0", l.Version("native"))
	assert.Equal(t, []string{"five 0.5.0"}, l.Via([]model.Requirement{{Name: "five"}, {Name: "native"}})["rack"].Path)
	for wrong, line := range map[string]string{
		strings.Replace(src, "PLATFORMS", "<<<<<<< ours\nPLATFORMS", 1): "Gemfile.lock:16", strings.Replace(src,
			"    rack (2.0.0)", "    rack 2", 1): "Gemfile.lock:14",
	} {
		_, err := lock.Read("Gemfile.lock", []byte(wrong))
		assert.ErrorContains(t, err, line)
	}
}

func TestInfo(t *testing.T) {
	a, b, c := strings.Repeat("a", 64), strings.Repeat("b", 64), strings.Repeat("c", 64)
	list, err := registry.ReadInfo("created_at: x\n---\n1.0.0 |checksum:" + a + "\n1.1.0-java dep:>= 1&< 2,other:>= 0|checksum:" + b +
		",ruby:>= 2.5&< 4\n1.1.0 \n1.1.0 |checksum:" + c + "\n\n")
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(
		t,
		"1.1.0 java [{dep >= 1, < 2} {other >= 0}] >= 2.5, < 4",
		fmt.Sprint(list[1].Version, " ", list[1].Platform, " ", list[1].Deps, " ", list[1].Ruby),
	)
	assert.Equal(t, c, list[2].Sha256)
	for wrong, want := range map[string]string{
		"---\n1.0.0 \nbad! x\n":                              `line 3: "bad!" is no version of a gem`,
		"---\n1.0.0 |checksum:zz\n":                          "line 2: the checksum of 1.0.0 is no SHA-256",
		"---\n1.0.0 ../a:>= 0|checksum:" + a + "\n":          `line 2: "../a" is no name of a gem`,
		"---\n1.0.0-\x1b[1m |checksum:" + a + "\n":           "is no version of a gem",
		"x: y\n---\n1.0.0 a:>= 0|checksum:" + a + "0" + "\n": "line 3: the checksum",
	} {
		_, err := registry.ReadInfo(wrong)
		assert.ErrorContains(t, err, want)
	}
}

// TestBroken sees that a Gemfile that Ruby cannot read is refused with the place.
func TestBroken(t *testing.T) {
	for src, want := range map[string]string{
		"source 'x'\ngroup :test do\n  gem 'a'\n":        "Gemfile:2: the block that begins here has no end",
		"source 'x'\ngem('a', '1'\ngem 'b'\n":            "Gemfile:2: nothing closes the ( here",
		"source 'x'\n\ngem 'a, '1'\n":                    "Gemfile:3: nothing closes the text that begins here",
		"gem 'a'\ngem 'b', [\n  '1',\n":                  "Gemfile:2: nothing closes the [ here",
		"eval_gemfile 'more'\n":                          "Gemfile:1: more cannot be read",
		"eval_gemfile '../../more'\n":                    "Gemfile:1: ../../more cannot be read",
		"source 'x'\nif a\n  gem 'b'\nend\ndef c; end\n": "",
		"x = if a then 1 else 2 end\ngem 'b'\n":          "",
		"gem 'a' if File.exist?('(')\n":                  "",
		"y = [1].map do |z| z end\ngem 'b', \"1#{y}\"\n": "",
	} {
		_, err := gemfile.Read(fstest.MapFS{"Gemfile": {Data: []byte(src)}}, "Gemfile", []byte(src))
		if want == "" {
			assert.NoError(t, err, src)
			continue
		}
		assert.ErrorContains(t, err, want, src)
	}
}

// FuzzGemfile sees that no text stops the reader, and that what it finds stands in the text.
func FuzzGemfile(f *testing.F) {
	f.Add("gem 'a', '~> 1'\ngroup :b do\ngem \"c\" if x\nend")
	f.Add("gem(%w[a], [\"1\", '2'], :git => 'x')")
	f.Fuzz(func(t *testing.T, src string) {
		files := fstest.MapFS{"Gemfile": {Data: []byte(src)}}
		x, err := ecosystem.Walk(files, nil)
		require.NoError(t, err)
		c, err := Ecosystem{}.Read(x, ".")
		if err != nil {
			return
		}
		for _, q := range c.Requirements {
			if q.Site.Text != "" && q.Site.File == "Gemfile" {
				require.Equal(t, q.Site.Text, src[q.Site.Start:q.Site.End])
			}
			for _, change := range []contract.Change{
				{Old: q.Name, New: "other", Range: "~> 2.0"}, {Old: q.Name}, {Old: q.Name, New: q.Name, Range: "git+https://code.example/x#main"},
			} {
				edits, err := Ecosystem{}.Rewrite(c, []contract.Change{change}, nil)
				if err == nil {
					require.LessOrEqual(t, len(edits), 1)
				}
			}
		}
	})
}

// TestSpecValues reads what a gemspec takes from a name or a file, and nothing that it puts together.
func TestSpecValues(t *testing.T) {
	others := map[string][]byte{"lib/quay/version.rb": []byte("VERSION = '1.2'"), "QUAY_VERSION": []byte("1.3\n"), "QUAY": []byte("7")}
	for expression, want := range map[string]string{
		"'1.0'":         "1.0",
		"'1.0'.freeze":  "1.0",
		"Quay::VERSION": "1.2",
		"version":       "1.3",
		"version.dup":   "",
		"File.read(File.expand_path('../QUAY_VERSION', __FILE__)).strip": "1.3",
		"'1.' + minor":                "",
		"Quay::VERSION + '.pre'":      "",
		"\"#{Quay::VERSION}.pre\"":    "",
		"ENV['VERSION'] || '1'":       "",
		"Quay::VERSION.gsub('.', '')": "",
	} {
		src := "version = File.read(File.join(__dir__, 'QUAY_VERSION')).strip\nGem::Specification.new do |s|\n  s.version = " + expression +
			"\n  s.add_dependency 'rope', " + expression + "\nend\n"
		assert.Equal(t, want, gemfile.SpecVersion("quay.gemspec", src, others), expression)
		if gems := gemfile.SpecDependencies("quay.gemspec", src, others).Gems; assert.Len(t, gems, 1, expression) {
			assert.Equal(t, want, gems[0].Rng, expression)
			assert.Equal(t, want == "", gems[0].Fixed == gemfile.ComputedVersion, expression)
		}
	}
}

// FuzzGemspec sees that no text stops the reader of gemspecs, and that places are where they are.
func FuzzGemspec(f *testing.F) {
	f.Add("Gem::Specification.new do |s|\n s.version = X::VERSION\n s.add_dependency 'a', '~> 1'\nend")
	f.Add("Gem::Specification.new 'a', '1' do |s|\n %w[a].each { |x| s.add_dependency x } if b\nend")
	f.Fuzz(func(t *testing.T, src string) {
		g := gemfile.SpecDependencies("a.gemspec", src, nil)
		for _, d := range g.Gems {
			if d.Site.Text != "" {
				require.Equal(t, d.Site.Text, src[d.Site.Start:d.Site.End])
			}
		}
		gemfile.SpecVersion("a.gemspec", src, map[string][]byte{"lib/a/version.rb": []byte("VERSION = '1'")})
		registry.ReadVersions([]byte(src))
	})
}

// FuzzLock sees that no text stops the reader, and that what it writes is read again as the same.
func FuzzLock(f *testing.F) {
	f.Add("GEM\n  remote: x\n  specs:\n    a (1)\n      b (~> 1)\n\nPLATFORMS\n  ruby\n")
	f.Fuzz(func(t *testing.T, src string) {
		l, err := lock.Read("Gemfile.lock", []byte(src))
		if err != nil {
			return
		}
		again, err := lock.Read("Gemfile.lock", l.Write())
		if err == nil {
			require.Equal(t, string(l.Write()), string(again.Write()))
		}
	})
}

// FuzzInfo sees that no list stops the reader, and that what it gives can be written into a lock.
func FuzzInfo(f *testing.F) {
	f.Add("---\n1.0.0-java dep:>= 1&< 2,other:>= 0|checksum:" + strings.Repeat("a", 64) + ",ruby:>= 2.5\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := registry.ReadInfo(text)
		if err != nil {
			return
		}
		for _, v := range list {
			require.NotContains(t, lock.FullName(v.Version, v.Platform), "\n")
			for _, d := range v.Deps {
				require.NotContains(t, d.Name+lock.LockRange(d.Rng), "\n")
			}
		}
	})
}
