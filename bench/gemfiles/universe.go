package main

import (
	"fmt"
	"slices"
	"strings"
)

// framework are the members of a family of gems that are released together, with what each needs of the others.
var framework = map[string][]string{
	"gantline-base": {}, "gantline-core": {"gantline-base"}, "gantline-record": {"gantline-core"}, "gantline-view": {"gantline-base"},
	"gantline-post": {"gantline-view", "gantline-core"}, "gantline-jobs": {"gantline-base"},
	"gantline-store": {"gantline-record", "gantline-jobs"},
	"gantline-line":  {"gantline-view", "gantline-base"},
	"gantline": {
		"gantline-base", "gantline-core", "gantline-record", "gantline-view", "gantline-post", "gantline-jobs", "gantline-store",
		"gantline-line",
	},
}

// universe is what the public server has, in the shorthand of stand-ins: families at one version, plug-ins with upper bounds, gems
// with files of platforms, engines, servers, test tools, linters with parts of their own.
func universe() string {
	var b strings.Builder
	for _, v := range []string{"6.0.6", "6.1.0", "6.1.7", "7.0.0", "7.0.8", "7.1.0", "7.1.3", "8.0.0"} {
		ruby := map[byte]string{'6': "2.5", '7': "2.7", '8': "3.2"}[v[0]]
		for name, needs := range framework {
			fmt.Fprintf(&b, "%s %s", name, v)
			for _, need := range needs {
				fmt.Fprintf(&b, " %s:=_%s", need, v)
			}
			if name == "gantline-view" {
				fmt.Fprintf(&b, " rackline:>=_%s", map[bool]string{true: "2.0", false: "2.2.4"}[v[0] == '6'])
			}
			fmt.Fprintf(&b, " ruby:>=_%s\n", ruby)
		}
	}
	b.WriteString(fixed)
	return b.String()
}

// fixed are the other gems of the public server.
const fixed = `rackline 2.0.9
rackline 2.2.4
rackline 2.2.9
rackline 3.0.8 ruby:>=_2.4
rackline 3.1.7 ruby:>=_2.4
rackline-sieve 2.2.1 rackline:>=_1.3,<_3
rackline-sieve 3.0.0 rackline:>=_2.0
moorlogin 4.7.3 gantline-line:>=_4.1 orchard:~>_1.0
moorlogin 4.8.1 gantline-line:>=_4.1,<_7.1 orchard:~>_1.0
moorlogin 4.9.3 gantline-line:>=_4.1,<_8.0 orchard:~>_1.0
moorlogin 4.9.4 gantline-line:>=_4.1 orchard:~>_1.0
orchard 1.2.3
orchard 1.2.8 rackline:>=_2.0.9
sailqueue 6.4.0 rackline:~>_2.0 pooled:>=_2.2.2
sailqueue 6.5.12 rackline:~>_2.0 pooled:>=_2.2.5,<_3
sailqueue 7.0.2 rackline:>=_2.2.4 pooled:>=_2.3.0
sailqueue 7.2.4 rackline:>=_2.2.4 pooled:>=_2.3.0 ruby:>=_2.7
pooled 2.2.5
pooled 2.4.1
pooled 3.0.0
portside 5.6.4 nio4sea:~>_2.0
portside 5.6.8 nio4sea:~>_2.0
portside 6.4.2 nio4sea:~>_2.0
nio4sea 2.5.8
nio4sea 2.7.3
lockbolt 1.13.10 minipart:~>_2.8.0 racy:~>_1.4
lockbolt 1.13.10 racy:~>_1.4 on:x86_64-linux
lockbolt 1.15.6 minipart:~>_2.8.2 racy:~>_1.4
lockbolt 1.15.6 racy:~>_1.4 on:x86_64-linux
lockbolt 1.15.6 racy:~>_1.4 on:arm64-darwin
lockbolt 1.18.0 minipart:~>_2.8.2 racy:~>_1.4 ruby:>=_3.2
lockbolt 1.18.0 racy:~>_1.4 ruby:>=_3.2 on:x86_64-linux
minipart 2.8.1
minipart 2.8.7
racy 1.6.2
racy 1.8.1
pageline 1.4.5
pageline 1.5.9
keelcache 5.0.1
keelcache 5.0.6
keelcache 5.4.0 ruby:>=_2.7
testmast 3.11.0 testmast-core:~>_3.11.0 testmast-expect:~>_3.11.0
testmast 3.12.0 testmast-core:~>_3.12.0 testmast-expect:~>_3.12.0
testmast 3.13.0 testmast-core:~>_3.13.0 testmast-expect:~>_3.13.0
testmast-core 3.11.0 testmast-support:~>_3.11.0
testmast-core 3.12.2 testmast-support:~>_3.12.0
testmast-core 3.13.1 testmast-support:~>_3.13.0
testmast-expect 3.11.1 testmast-support:~>_3.11.0
testmast-expect 3.12.3 testmast-support:~>_3.12.0
testmast-expect 3.13.3 testmast-support:~>_3.13.0
testmast-support 3.11.1
testmast-support 3.12.1
testmast-support 3.13.1
testmast-gantline 5.1.2 gantline-line:>=_5.2 testmast-core:~>_3.10
testmast-gantline 6.0.4 gantline-line:>=_6.1 testmast-core:~>_3.12
testmast-gantline 7.0.1 gantline-line:>=_7.0 testmast-core:~>_3.13
buoys 6.2.0 gantline-base:>=_5.0
buoys 6.4.4 gantline-base:>=_5.0
reefcop 1.50.2 reefcop-ast:>=_1.28.0,<_2.0 tokens:>=_3.2.1.0
reefcop 1.65.1 reefcop-ast:>=_1.31.1,<_2.0 tokens:>=_3.3.0.2 ruby:>=_2.7
reefcop-ast 1.28.0 tokens:>=_3.2.1.0
reefcop-ast 1.32.3 tokens:>=_3.3.1.0
reefcop-gantline 2.18.0 gantline-base:>=_4.2 reefcop:>=_1.33,<_2.0
reefcop-gantline 2.26.2 gantline-base:>=_4.2 reefcop:>=_1.52,<_2.0 reefcop-ast:>=_1.31.1,<_2.0
tokens 3.2.1.1
tokens 3.3.4.2
zonedata 1.2022.7
zonedata 1.2024.1
winclock 0.2.0
springline 4.1.0
springline 4.2.1
weblamp 4.2.0 gantline-base:>=_6.0.0 bindlamp:>=_0.4.0
weblamp 4.2.1 gantline-base:>=_6.0.0 bindlamp:>=_0.4.0
bindlamp 0.8.1
sheetfold 2.1.1
sheetfold 2.10.0
sheetfold 3.0.0.pre1
darkfs 0.11.1
darkfs 0.11.2
`

// older are the older half of each gem's releases.
func older(lines string) string {
	versions := map[string][]string{} // by gem, in the order of the lines
	for line := range strings.Lines(lines) {
		name, rest, _ := strings.Cut(line, " ")
		if v := strings.Fields(rest)[0]; !slices.Contains(versions[name], v) {
			versions[name] = append(versions[name], v)
		}
	}
	var b strings.Builder
	for line := range strings.Lines(lines) {
		name, rest, _ := strings.Cut(line, " ")
		all := versions[name]
		if slices.Index(all, strings.Fields(rest)[0]) < (len(all)+1)/2 {
			b.WriteString(line)
		}
	}
	return b.String()
}

// private is what a server of one's own has.
const private = `harbour-auth 1.4.0 gantline-base:>=_6.0
harbour-auth 1.5.2 gantline-base:>=_6.0
harbour-auth 2.0.0 gantline-base:>=_7.0
`
