package printed

import (
	"sync"

	"bellwether/internal/core/finding"
)

// patterns is the table, ready for use.
var patterns = sync.OnceValue(func() []pattern { return compiled(table()) })

// table is what tools print, in forms of their documentation and of their output as
// it is. Of several that a line matches, the first one counts.
func table() []pattern {
	const (
		gnu   = `^(?P<file>[^\s:()\[\]]+\.\w+):(?P<line>\d+)(?::(?P<col>\d+))?: `
		paren = `^\s*(?P<file>[^\s(][^(]*?)\((?P<line>\d+)(?:,(?P<col>\d+))?(?:,\d+,\d+)?\) ?: (?P<level>error|warning) `
	)
	return []pattern{
		// npm and other clients of its registry
		{
			tool: "npm", kind: finding.Deprecation, has: " deprecated ",
			re: `^npm (?:warn|WARN) deprecated (?P<pkg>@?[^@\s]+)@(?P<ver>[^\s:]+):? (?P<text>.+)$`,
		},
		{
			tool: "npm", kind: finding.Warning, has: "EBADENGINE", re: `EBADENGINE\s+package: '(?P<pkg>@?[^@']+)@(?P<ver>[^']+)'`,
			says: "does not run on the Node.js that is installed",
		},
		{
			tool: "npm", kind: finding.Warning, has: "ERESOLVE overriding",
			re: `^npm (?:warn|WARN) (?P<code>ERESOLVE) (?P<text>overriding peer dependency)`,
		},
		{tool: "npm", kind: finding.Failure, has: "ERESOLVE ", re: `^npm (?:error|ERR!)(?: code)? (?P<code>ERESOLVE) (?P<text>.+)$`},
		{
			tool: "npm", kind: finding.Failure, has: "notarget ",
			re: `^npm (?:error|ERR!) notarget (?P<text>No matching version found for (?P<pkg>@?[^@\s]+)@.+)$`,
		},
		{tool: "npm", kind: finding.Failure, has: "Missing script", re: `^npm (?:error|ERR!) (?P<text>Missing script: .+)$`},
		{
			tool: "npm", kind: finding.Failure, has: " Missing: ",
			re: `^npm (?:error|ERR!) (?P<text>Missing: (?P<pkg>@?[^@\s]+)@(?P<ver>\S+) from lock file)`,
		},
		{
			tool: "npm", kind: finding.Failure, has: " Invalid: ",
			re: `^npm (?:error|ERR!) (?P<text>Invalid: lock file's (?P<pkg>@?[^@\s]+)@(?P<ver>\S+) does not satisfy .+)$`,
		},
		{
			tool: "npm", kind: finding.Failure, has: "integrity checksum failed",
			re: `^npm (?:error|ERR!) (?:EINTEGRITY )?(?P<text>\S+ integrity checksum failed .+?)\.?(?: \(\d+ bytes\))?$`,
		},
		{
			tool: "npm", kind: finding.Failure, has: "404  ",
			re:   `^npm (?:error|ERR!) (?P<code>404)\s+(?:The requested resource )?'(?P<pkg>@?[^@'\s]+)@(?P<text>[^'\s]+)'`,
			says: "the registry does not have $pkg $text",
		},
		{tool: "npm", kind: finding.Failure, has: "EBADPLATFORM ", re: `^npm (?:error|ERR!) (?:notsup|code EBADPLATFORM) (?P<text>.+)$`},
		{
			tool: "npm", kind: finding.Failure, has: "notsup ",
			re: `^npm (?:error|ERR!) notsup (?P<text>Unsupported platform for (?P<pkg>@?[^@\s]+)@(?P<ver>[^:\s]+): .+)$`,
		},
		{tool: "npm", kind: finding.Failure, has: "gyp ", re: `^npm (?:error|ERR!) (?P<text>gyp ERR! (?:stack Error|not ok).*)$`},
		{
			tool: "npm", kind: finding.Warning, has: "npm warn",
			re:  `^npm warn (?:config|cli|tarball|reify|audit|EOTP|using|optional|peer) (?P<text>.+)$`,
			not: `^npm warn (?:optional|peer) SKIPPING`,
		},
		{
			tool: "yarn", kind: finding.Deprecation, has: "warning ",
			re: `^warning (?:.* > )?(?P<pkg>@?[^@\s>]+)@(?P<ver>[^\s:]+): (?P<text>.*(?i:deprecat|no longer|unmaintained|upgrade).*)$`,
		},
		{
			tool: "yarn", kind: finding.Warning, has: "unmet peer dependency",
			re: `^warning "?(?:.* > )?(?P<pkg>@?[^@\s">]+)@(?P<ver>[^\s"]+)"? has (?P<text>unmet peer dependency .+)$`,
		},
		{
			tool: "yarn", kind: finding.Failure, has: "error ",
			re: `^error (?P<text>(?:An unexpected error|Couldn't find|Found incompatible|Your lockfile|Command failed).*)$`,
		},
		{
			tool: "yarn", kind: finding.Failure, has: "➤ ",
			re: `^➤ (?P<code>YN\d+): .*?(?P<text>(?:\S+ doesn't provide|The lockfile would have been|No candidates found|Couldn't find).*)$`,
		},
		{tool: "pnpm", kind: finding.Deprecation, has: "WARN", re: `^\s*WARN\s+deprecated (?P<pkg>@?[^@\s]+)@(?P<ver>[^\s:]+): (?P<text>.+)$`},
		{tool: "pnpm", kind: finding.Failure, has: "ERR_PNPM", re: `(?P<code>ERR_PNPM_\w+)\s+(?P<text>.+)$`},

		// Node.js
		{
			tool: "node", kind: finding.Deprecation, has: "DeprecationWarning: ",
			re: `^\((?:node|electron):\d+\) (?:\[(?P<code>\w+)\] )?DeprecationWarning: (?P<text>.+)$`, look: 12, form: stackForm,
		},
		{
			tool: "node", kind: finding.Warning, has: "Warning: ", re: `^\((?:node|electron):\d+\) (?:\[(?P<code>\w+)\] )?(?P<text>\w*Warning: .+)$`,
			look: 12, form: stackForm,
		},
		{tool: "node", kind: finding.Failure, has: "bad option: ", re: `^node: (?P<text>bad option: .+)$`},

		// The Go tool
		{tool: "go", kind: finding.Deprecation, has: " is deprecated: ", re: `^go: module (?P<pkg>\S+) is deprecated: (?P<text>.+)$`},
		{
			tool: "go", kind: finding.Warning, has: "retracted by",
			re: `^go: warning: (?P<pkg>[^@\s]+)@(?P<ver>[^:\s]+): (?P<text>retracted by module author.*)$`,
		},
		{tool: "go", kind: finding.Warning, has: "go: warning", re: `^go: warning: (?P<text>.+)$`},
		{
			tool: "go", kind: finding.Failure, has: "missing go.sum",
			re: `^(?:go: )?(?:(?P<file>\S+\.go):(?P<line>\d+):(?P<col>\d+): )?(?P<text>.*missing go\.sum entry.*?)(?:; to add(?: it)?:)?$`,
		},
		{
			tool: "go", kind: finding.Failure, has: "go: ",
			re: `^go: (?P<pkg>[\w.-]+\.[\w.-]+/[^@\s]+)@(?P<ver>v[^:\s]+):? (?P<text>(?:requires|invalid|reading|verifying|missing|` +
				`unrecognized|parsing|module|but).*)$`,
		},
		{
			tool: "go", kind: finding.Failure, has: "go: ", re: `^go: (?P<text>.+?)(?:; to (?:update|add)(?: it)?:)?$`,
			not: `^go: (?:downloading|finding|extracting|added|upgraded|downgraded|removed|creating|to add|warning|no module ` +
				`dependencies|found|accepting|switching)`,
		},
		{tool: "go", kind: finding.Failure, has: "--- FAIL: ", re: `^\s*--- FAIL: (?P<code>\S+)`, says: "$code fails", look: 3, form: plainForm},
		{tool: "go", kind: finding.Failure, has: "[setup failed]", re: `^FAIL\t(?P<text>.+)$`},
		{tool: "go", kind: finding.Failure, has: "undefined reference", re: `(?P<text>undefined reference to .+)$`},

		// javac and the JVM
		{
			tool: "javac", kind: finding.Failure, has: ".java:",
			re: `^(?P<file>\S+\.java):(?P<line>\d+): (?P<level>error|warning): (?:\[(?P<code>[\w-]+)\] )?(?P<text>.+)$`,
		},
		{
			tool: "javac", kind: finding.Deprecation, has: "deprecated API",
			re: `^(?:\[INFO\] |\[WARNING\] )?(?:Note: )?(?P<file>\S+\.java):? (?P<text>(?:uses|Some input files use) or overrides? a ` +
				`deprecated API.*)$`,
		},
		{
			tool: "javac", kind: finding.Deprecation, has: "deprecated API",
			re: `^(?:\[INFO\] |\[WARNING\] )?Note: (?P<text>Some input files use or override a deprecated API.*)$`,
		},
		{tool: "javac", kind: finding.Warning, has: "warning: [", re: `^warning: \[(?P<code>[\w-]+)\] (?P<text>.+)$`},
		{tool: "java", kind: finding.Deprecation, has: "terminally deprecated", re: `^WARNING: (?P<text>A terminally deprecated method in .+)$`},
		{
			tool: "java",
			kind: finding.Deprecation,
			has:  "sun.misc.Unsafe::",
			re:   `^WARNING: (?P<text>sun\.misc\.Unsafe::\w+ has been called by .+)$`,
		},
		{
			tool: "java",
			kind: finding.Warning,
			has:  "illegal reflective",
			re:   `^WARNING: (?P<text>An illegal reflective access operation has occurred)`,
		},
		{tool: "java", kind: finding.Deprecation, has: "VM warning", re: `VM warning: (?P<text>.+)$`},

		// Kotlin, before what is alike
		{
			tool: "kotlin",
			kind: finding.Warning,
			has:  ".kt",
			re:   `^(?P<level>[ew]): (?:file://)?(?P<file>\S+\.kts?):(?P<line>\d+):(?P<col>\d+):? (?P<text>.+)$`,
		},

		// Maven
		{
			tool: "maven", kind: finding.Failure, has: "[ERROR]",
			re: `^\[ERROR\] (?P<file>\S+\.\w+):\[(?P<line>\d+),(?P<col>\d+)\] (?:error: )?(?P<text>.+)$`,
		},
		{
			tool: "maven", kind: finding.Warning, has: "[WARNING]",
			re: `^\[WARNING\] (?P<file>\S+\.\w+):\[(?P<line>\d+),(?P<col>\d+)\] (?:\[(?P<code>[\w-]+)\] )?(?P<text>.+)$`,
		},
		{
			tool: "maven", kind: finding.Deprecation, has: "has been relocated",
			re: `^\[WARNING\] The artifact (?P<pkg>[\w.-]+:[\w.-]+):[\w.-]+:(?P<ver>\S+) (?P<text>has been relocated to .+)$`,
		},
		{
			tool: "maven", kind: finding.Failure, has: "Could not find artifact",
			re: `^\[ERROR\].*(?P<text>Could not find artifact (?P<pkg>[\w.-]+:[\w.-]+):[\w.:-]*?:(?P<ver>[\w.-]+) in .+?)(?: -> \[Help \d\])?$`,
		},
		{
			tool: "maven",
			kind: finding.Failure,
			has:  "Failed to execute goal",
			re:   `^\[ERROR\] (?P<text>Failed to execute goal .+?)(?: -> \[Help \d\])?$`,
		},
		{tool: "maven", kind: finding.Failure, has: "[ERROR]", re: `^\[ERROR\] (?P<text>.+?)(?: -> \[Help \d\])?$`,
			not: `^\[ERROR\] (?:COMPILATION ERROR|\s*symbol\s*:|\s*location\s*:|To see the full|Re-run Maven|` +
				`For more information|\[Help|Tests run:|Failures:|Errors:|Please refer|See \S+/|See dump files|After correcting|` +
				`-> \[Help|\s*$|\s+mvn |\s+at [\w.$/]+\()`},
		{
			tool: "maven", kind: finding.Warning, has: "[WARNING]", re: `^\[WARNING\] (?P<text>.+)$`,
			not: `^\[WARNING\] (?:COMPILATION WARNING|Some problems were encountered|It is highly recommended to fix|For this reason, ` +
				`future|Tests run:|\s*$|bootstrap class path)`,
		},

		// Gradle
		{tool: "gradle", kind: finding.Failure, has: "What went wrong", re: `^\* (?P<code>What went wrong):$`, head: true},
		{
			tool: "gradle", kind: finding.Failure, has: "Could not find ",
			re: `^\s*> (?P<text>Could not find (?P<pkg>[\w.-]+:[\w.-]+):(?P<ver>[\w+-]+(?:\.[\w+-]+)*))`,
		},
		{
			tool: "gradle",
			kind: finding.Deprecation,
			has:  "Deprecated Gradle",
			re:   `^(?P<text>Deprecated Gradle features were used in this build.+)$`,
		},
		{tool: "gradle", kind: finding.Deprecation, has: " been deprecated", re: `^(?P<text>\S.* ha(?:s|ve) been deprecated\. .*)$`},
		{tool: "gradle", kind: finding.Failure, has: " FAILED", re: `^> Task (?P<text>:\S+) FAILED$`, says: "the task $text failed"},

		// pip and Python
		{
			tool: "pip", kind: finding.Deprecation, has: "DEPRECATION: ",
			re: `^\s*DEPRECATION: (?P<text>(?:(?P<pkg>[\w.-]+) is being installed using)?.+)$`,
		},
		{
			tool: "pip", kind: finding.Failure, has: "which is incompatible",
			re: `^(?P<text>(?P<pkg>[\w.-]+) (?P<ver>\d\S*) requires .+, but you have .+ which is incompatible\.)`,
		},
		{
			tool: "pip", kind: finding.Failure, has: "requires a different Python",
			re: `^ERROR: (?P<text>Package '(?P<pkg>[\w.-]+)' requires a different Python: .+)$`,
		},
		{
			tool: "pip", kind: finding.Failure, has: "ERROR: ",
			re: `^ERROR: (?P<text>(?:Could not find a version that satisfies the requirement|No matching distribution found for|` +
				`Failed building wheel for) (?P<pkg>[\w.-]+).*)$`,
		},
		{
			tool: "pip", kind: finding.Failure, has: "ERROR: ",
			re: `^ERROR: (?P<text>(?:Could not|No matching|Cannot install|ResolutionImpossible|Failed building wheel for|Invalid ` +
				`requirement|Failed to build|THESE PACKAGES|Package '|pip's|Ignored|Exception:|Command errored|Can not|Hash).*)$`,
		},
		{
			tool: "python", kind: finding.Deprecation, has: "Warning: ",
			re: `^\s*(?P<file>[^\s:]+\.py):(?P<line>\d+): (?P<code>(?:Pending)?DeprecationWarning|FutureWarning|RemovedIn\w+Warning|` +
				`\w*Deprecated\w*Warning): (?P<text>.+)$`,
		},
		{
			tool: "python",
			kind: finding.Warning,
			has:  "Warning: ",
			re:   `^\s*(?P<file>[^\s:]+\.py):(?P<line>\d+): (?P<code>\w+Warning): (?P<text>.+)$`,
		},
		{
			tool: "pip", kind: finding.Warning, has: "WARNING: ",
			re: `^WARNING: (?P<text>(?:The candidate|Retrying|Skipping|Discarding|Requested|Ignoring|You are using|Running pip|` +
				`Package\(s\)|(?P<pkg>[\w.-]+) (?P<ver>\d\S*) does not provide).*)$`,
		},
		{
			tool: "pytest", kind: finding.Failure, has: "FAILED ", re: `^FAILED (?P<file>[^\s:]+\.py)::(?P<code>\S+)(?: - (?P<text>.+))?$`,
			says: "$code fails: $text",
		},
		{
			tool: "pytest", kind: finding.Failure, has: "ERROR ", re: `^ERROR (?P<file>[^\s:]+\.py)(?:::(?P<code>\S+))?(?: - (?P<text>.+))?$`,
			says: "cannot run: $text",
		},
		{tool: "unittest", kind: finding.Failure, has: "FAIL: ", re: `^(?:FAIL|ERROR): (?P<code>\w+ \(.+\))$`, says: "$code fails"},

		// Ruby and Bundler, before what is alike
		{tool: "bundler", kind: finding.Deprecation, has: "[DEPRECATED]", re: `^\[DEPRECATED\] (?P<text>.+)$`},
		{
			tool: "ruby", kind: finding.Deprecation, has: "DEPRECATION WARNING",
			re: `^\s*DEPRECATION WARNING: (?P<text>.+?)(?: \(called from .*?(?:at )?(?P<file>[^\s:()]+\.\w+):(?P<line>\d+)\))?$`,
		},
		{
			tool: "rubygems", kind: finding.Deprecation, has: "NOTE: ", re: `^NOTE: (?P<text>\S+ is deprecated.*)$`, look: 1,
			form: `called from (?P<file>[^\s:]+):(?P<line>\d+)`,
		},
		{tool: "bundler", kind: finding.Failure, has: "Could not find gem '", re: `^(?P<text>Could not find gem '(?P<pkg>[\w-]+).*)$`},
		{tool: "bundler", kind: finding.Failure, has: "Could not find ", re: `^(?P<text>Could not find (?P<pkg>[\w-]+)-(?P<ver>\d\S*) in .*)$`},
		{
			tool: "bundler",
			kind: finding.Failure,
			has:  "Could not find compatible",
			re:   `^(?P<text>Could not find compatible versions.*)$`,
			head: true,
		},
		{
			tool: "bundler", kind: finding.Failure, has: "could not find compatible",
			re: `^(?P<text>Bundler could not find compatible versions for gem "(?P<pkg>[\w-]+)".*)$`,
		},
		{
			tool: "bundler", kind: finding.Failure, has: "error occurred while installing",
			re: `^(?P<text>An error occurred while installing (?P<pkg>[\w-]+) \((?P<ver>[\w.]+)\).*)$`,
		},
		{tool: "bundler", kind: finding.Failure, has: "Your Ruby version", re: `^(?P<text>Your Ruby version is .+)$`},
		{tool: "ruby", kind: finding.Failure, has: "rspec ", re: `^rspec (?P<file>[^\s:\[]+)(?::(?P<line>\d+)|\[\S+\]) # (?P<text>.+)$`},
		{tool: "ruby", kind: finding.Failure, has: "#test_", re: `^(?P<code>[\w:]+#test_\S+) \[(?P<file>[^\s:]+):(?P<line>\d+)\]:$`, head: true},

		// PHP and Composer
		{
			tool: "php", kind: finding.Failure, has: " on line ",
			re:  `^(?:PHP )?(?P<level>Deprecated|Warning|Notice|Fatal error|Parse error): {1,2}(?P<text>.+) in (?P<file>\S+) on line (?P<line>\d+)$`,
			not: `Uncaught `,
		},
		{
			tool: "composer", kind: finding.Deprecation, has: " is abandoned",
			re: `^(?:<warning>)?Package (?P<pkg>[\w-]+/[\w.-]+) (?P<text>is abandoned, .+?)(?:</warning>)?$`,
		},
		{
			tool: "composer", kind: finding.Deprecation, has: "Deprecation Notice",
			re: `^Deprecation Notice: (?P<text>.+?)(?: in (?P<file>\S+):(?P<line>\d+))?$`,
		},
		{
			tool: "composer", kind: finding.Failure, has: "Your requirements could",
			re: `^(?P<text>Your requirements could not be resolved to an installable set of packages\.)`,
		},
		{
			tool: "composer", kind: finding.Failure, has: "your php version",
			re: `^\s+- (?P<text>.*(?P<pkg>\b[\w-]+/[\w.-]+)\b.* requires php .*your php version .+)$`,
		},
		{
			tool: "composer", kind: finding.Failure, has: "Root composer.json requires",
			re: `^\s+- (?P<text>Root composer\.json requires (?P<pkg>[\w-]+/[\w.-]+) .+)$`,
		},
		{tool: "composer", kind: finding.Warning, has: "lock file is not up to date", re: `(?P<text>[Tt]he lock file is not up to date .+)$`},
		{tool: "phpunit", kind: finding.Failure, has: "::test", re: `^\d+\) (?P<code>[\w\\]+::test\w+)`, head: true},

		// .NET, MSBuild and TypeScript, which write places alike
		{tool: "typescript", kind: finding.Failure, has: " TS", re: paren + `(?P<code>TS\d+): (?P<text>.+)$`},
		{
			tool: "typescript", kind: finding.Failure, has: " TS",
			re: `^(?P<file>[^\s:]+):(?P<line>\d+):(?P<col>\d+) - (?P<level>error|warning) (?P<code>TS\d+): (?P<text>.+)$`,
		},
		{tool: "typescript", kind: finding.Failure, has: "error TS", re: `^error (?P<code>TS\d+): (?P<text>.+)$`},
		{tool: "dotnet", kind: finding.Failure, has: "): ", re: paren + `(?P<code>[A-Z]+\d+): (?P<text>.+?)(?: \[[^\]]+\])?$`},
		{
			tool: "dotnet", kind: finding.Failure, has: "Package '",
			re: `: (?P<level>error|warning) (?P<code>NU\d+): (?P<text>Package '(?P<pkg>[\w.]+)' (?P<ver>\d\S*) .+?)(?: \[[^\]]+\])?$`,
		},
		{
			tool: "dotnet", kind: finding.Failure, has: "package downgrade",
			re: `: (?P<level>error|warning)(?: As Error)? (?P<code>NU1605): (?:Warning As Error: )?(?P<text>Detected package ` +
				`downgrade: (?P<pkg>[\w.]+) from .+?)(?: \[[^\]]+\])?$`,
		},
		{
			tool: "dotnet", kind: finding.Failure, has: "error NU|error MSB|error NETSDK|warning NU|warning MSB|warning NETSDK",
			re: `^(?:.*: )?(?P<level>error|warning) (?P<code>(?:NU|MSB|NETSDK)\d+): (?P<text>.+?)(?: \[[^\]]+\])?$`,
		},
		{tool: "dotnet", kind: finding.Failure, has: "Failed ", re: `^\s+Failed (?P<code>[\w.<>]+(?:\(.*\))?) \[[^\]]+\]$`, says: "$code fails"},

		// mix
		{
			tool: "mix", kind: finding.Failure, has: "** (", re: `^\*\* \((?P<code>Mix\w*(?:\.\w+)*|CompileError|Hex\S*)\) (?P<text>.+)$`, look: 1,
			form: plainForm,
		},
		{tool: "mix", kind: finding.Failure, has: "test ", re: `^\s+\d+\) test (?P<text>.+) \((?P<code>[\w.]+)\)$`, look: 1, form: plainForm},

		// Rust and cargo
		{
			tool: "cargo", kind: finding.Failure, has: "cannot be built because|is not supported by",
			re: `^error: (?P<text>(?:rustc \S+ is not supported.*|package .(?P<pkg>[\w-]+) v(?P<ver>\S+?). cannot be built because .+))$`,
		},
		{
			tool: "cargo", kind: finding.Failure, has: "failed to select",
			re: "^error: (?P<text>failed to select a version for (?:the requirement )?`(?P<pkg>[\\w-]+)[^`]*`.*)$",
		},
		{tool: "rustc", kind: finding.Failure, has: "error[", re: `^error\[(?P<code>E\d+)\]: (?P<text>.+)$`, look: 3, form: arrowForm},
		{tool: "cargo", kind: finding.Failure, has: "FAILED", re: `^test (?P<code>\S+) \.\.\. FAILED$`, says: "$code fails"},

		// Bundlers and linters of JavaScript and CSS
		{
			tool: "bundler", kind: finding.Failure, has: " in ./",
			re: `^(?P<level>ERROR|WARNING) in (?P<file>\./\S+)(?: (?P<line>\d+):(?P<col>\d+)(?:-\d+)*)?$`, head: true,
		},
		{
			tool: "bundler", kind: finding.Failure, has: "[ERROR] ", re: `^(?:✘|X) \[(?P<level>ERROR)\] (?P<text>.+?)(?: \[[\w-]+\])?$`, look: 3,
			form: plainForm,
		},
		{
			tool: "bundler", kind: finding.Warning, has: "[WARNING] ",
			re: `^(?:▲|!) \[(?P<level>WARNING)\] (?P<text>.+?)(?: \[(?P<code>[\w-]+)\])?$`, look: 3, form: plainForm,
		},
		{tool: "bundler", kind: finding.Warning, has: "(!) ", re: `^\(!\) (?P<text>.+)$`},
		{
			tool: "bundler", kind: finding.Failure, has: "failed to resolve import",
			re: `(?P<text>\S* ?failed to resolve import "?(?P<pkg>@?[\w-][\w./-]*)"? from "?(?P<file>[^"\s]+)"?.*)$`,
		},
		{tool: "bundler", kind: finding.Failure, has: "Can't resolve '", re: `(?P<text>Can't resolve '[^']+') in '`},
		{
			tool: "sass", kind: finding.Deprecation, has: "eprecation Warning|DEPRECATION WARNING [",
			re: `^(?:Deprecation Warning|DEPRECATION WARNING)(?: \[(?P<code>[\w-]+)\])?(?: on line (?P<line>\d+), column ` +
				`(?P<col>\d+) of (?P<file>\S+?):?)?:? ?(?P<text>.*)$`,
			look: 12, form: spaceForm,
		},
		{
			tool: "eslint", kind: finding.Failure, has: "  error  |  warning  ",
			re: `^\s+(?P<line>\d+):(?P<col>\d+)\s+(?P<level>error|warning)\s+(?P<text>.+?)\s{2,}(?P<code>[\w@/-]+)$`, under: true,
		},
		{
			tool: "stylelint", kind: finding.Failure, has: "  ✖|  ×|  ⚠",
			re: `^\s+(?P<line>\d+):(?P<col>\d+)\s+(?P<level>✖|×|⚠)\s+(?P<text>.+?)\s{2,}(?P<code>[\w@/-]+)$`, under: true,
		},
		{
			tool: "jest", kind: finding.Failure, has: "  ● ", re: `^\s+● (?P<text>.+)$`, not: `● (?:Console|Deprecation Warning:|Validation )`,
			look: 25, form: stackForm,
		},
		{tool: "vitest", kind: finding.Failure, has: "FAIL  ", re: `^\s*FAIL  (?P<file>\S+) > (?P<text>.+)$`},

		// What several programs write alike
		{
			tool: "mypy", kind: finding.Failure, has: ".py:",
			re: `^(?P<file>[^\s:]+\.py):(?P<line>\d+)(?::(?P<col>\d+))?: (?P<level>error|warning): (?P<text>.+?)(?:  \[(?P<code>[\w-]+)\])?$`,
		},
		{
			tool: "flake8", kind: finding.Warning, has: ".py:",
			re: `^(?P<file>[^\s:]+\.py):(?P<line>\d+):(?P<col>\d+): (?P<code>[A-Z]+\d+):? (?P<text>.+?)(?: \([\w-]+\))?$`,
		},
		{
			tool: "rubocop", kind: finding.Warning, has: ".rb:",
			re: `^(?P<file>[^\s:]+\.rb):(?P<line>\d+):(?P<col>\d+): [CWEFR]: (?:\[\S+\] )?(?P<code>[A-Z]\w+/\w+): (?P<text>.+)$`,
		},
		{
			tool: "go", kind: finding.Deprecation, has: " is deprecated: ",
			re: `^(?:vet: )?(?P<file>[^\s:()]+\.go):(?P<line>\d+)(?::(?P<col>\d+))?: (?P<text>.+ is deprecated: .+?)(?: \((?P<code>\w+)\))?$`,
		},
		{
			tool: "go", kind: finding.Failure, has: ".go:",
			re: `^(?:vet: )?(?P<file>[^\s:()]+\.go):(?P<line>\d+)(?::(?P<col>\d+))?:? (?P<text>.+?)(?:; to add(?: it)?:)?(?: ` +
				`\((?P<code>SA\d+|S\d+|ST\d+|U\d+|[a-z]+)\))?$`,
		},
		{tool: "", kind: finding.Failure, has: "fatal error: ", re: gnu + `fatal error: (?P<text>.+)$`},
		{tool: "", kind: finding.Failure, has: "error: ", re: gnu + `error: (?P<text>.+)$`},
		{tool: "", kind: finding.Warning, has: "warning: ", re: gnu + `warning: (?P<text>.+?)(?: \[-W(?P<code>[\w-]+)\])?$`},
		{tool: "", kind: finding.Failure, has: "error: ", re: `^\s*error: (?P<text>.+)$`, look: 8, form: anyForm,
			not: `^\s*error: (?:aborting due to|could not compile|test failed|process didn't|\d+ targets? failed|build failed|recipe for)`},
		{tool: "", kind: finding.Warning, has: "warning: ", re: `^\s*warning: (?P<text>.+)$`, look: 8, form: anyForm,
			not: "^warning: (?:`[\\w-]+` \\(|build failed|\\d+ warnings? emitted)"},
	}
}
