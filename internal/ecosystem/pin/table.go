package pin

// kind is a kind of file.
type kind struct {
	files string // names, separated by spaces; a pattern with a slash is of whole paths, as doublestar has it
	read  func(f *file)
}

// kinds is the table. A file is read by each kind that it matches. The names
// of the files and what they say are laid down by the systems that read them.
var kinds = []kind{
	// One version, for whoever works on the project.
	{".nvmrc .node-version", oneLine("node")},
	{".python-version", oneLine("python")},
	{".ruby-version", oneLine("ruby")},
	{".java-version", oneLine("java")},
	{".go-version", oneLine("go")},
	{".php-version", oneLine("php")},
	{".swift-version", oneLine("swift")},
	{"rust-toolchain", oneLine("rust")},
	{"rust-toolchain.toml", text("runtime/rust", `(?m)^\s*channel\s*=\s*"(?P<version>[^"]+)"`, here)},
	{".tool-versions", toolVersions},
	{".sdkmanrc", text("runtime/java", `(?m)^java=(?P<version>[0-9][0-9.]*)`, here)},

	// Images and continuous integration.
	{"Dockerfile Dockerfile.* Containerfile Containerfile.* *.Dockerfile *.dockerfile", containerFile},
	{
		"compose.yml compose.yaml compose.*.yml compose.*.yaml docker-compose.yml docker-compose.yaml docker-compose.*.yml docker-compose.*.yaml",
		workflow,
	},
	{".github/workflows/*.{yml,yaml} .circleci/config.{yml,yaml} .woodpecker/*.{yml,yaml}", workflow},
	{
		".gitlab-ci.yml .woodpecker.yml .woodpecker.yaml .drone.yml bitbucket-pipelines.yml azure-pipelines.yml appveyor.yml .cirrus.yml",
		workflow,
	},
	{".travis.yml", languageMatrix},
	{"devcontainer.json .devcontainer.json", imageText(`"image"\s*:\s*"(?P<image>[^"]+)"`)},
	{"Jenkinsfile", imageText(`(?m)^[^/\n]*\bimage\s*\(?\s*['"](?P<image>[^'"]+)['"]`)},

	// What hosting platforms read.
	{"runtime.txt", text("runtime/python", `^python-(?P<version>[0-9][0-9.]*)`)},
	{"system.properties", text("runtime/java", `(?m)^\s*java\.runtime\.version\s*=\s*(?P<version>[0-9][0-9.]*)`)},
	{"app.yaml", text("runtime/node", `(?m)^runtime:\s*["']?nodejs(?P<version>[0-9]+)`)},
	{"elixir_buildpack.config", text("runtime/elixir", `(?m)^\s*elixir_version=v?(?P<version>[0-9][0-9.]*)`)},
	{"elixir_buildpack.config", text("runtime/erlang", `(?m)^\s*erlang_version=(?P<version>[0-9][0-9.]*)`)},
	{".platform.app.yaml", text("runtime/node", `(?m)^type:\s*["']?nodejs:(?P<version>[0-9][0-9.]*)`)},
	{".platform.app.yaml", text("runtime/php", `(?m)^type:\s*["']?php:(?P<version>[0-9][0-9.]*)`)},
	{".platform.app.yaml", text("runtime/python", `(?m)^type:\s*["']?python:(?P<version>[0-9][0-9.]*)`)},
	{"netlify.toml", text("runtime/node", `(?m)^\s*NODE_VERSION\s*=\s*["'](?P<version>[^"']+)["']`)},

	// Manifests and build scripts. What a manifest states for its own
	// ecosystem is read there.
	{"package.json", text("tool/npm", `"packageManager"\s*:\s*"npm@(?P<version>[0-9][^"+]*)(?P<digest>\+[^"]*)?"`, whole)},
	{"package.json", text("tool/pnpm", `"packageManager"\s*:\s*"pnpm@(?P<version>[0-9][^"+]*)(?P<digest>\+[^"]*)?"`, whole)},
	{"package.json", text("tool/yarn", `"packageManager"\s*:\s*"yarn@(?P<version>[0-9][^"+]*)(?P<digest>\+[^"]*)?"`, whole)},
	{"package.json", text("runtime/node", `"volta"\s*:\s*\{[^}]*"node"\s*:\s*"(?P<version>[^"]+)"`, here, whole)},
	{"package.json", text("runtime/node", `"devEngines"\s*:\s*\{[^\]]*?"name"\s*:\s*"node"\s*,\s*"version"\s*:\s*"(?P<version>[^"]+)"`)},
	{"Cargo.toml", text("runtime/rust", `(?m)^\s*rust-version\s*=\s*"(?P<version>[0-9][0-9.]*)"`, atLeast)},
	{"global.json", text("runtime/dotnet", `"sdk"\s*:\s*\{[^}]*"version"\s*:\s*"(?P<version>[^"]+)"`, here, whole)},
	{
		"*.csproj *.fsproj *.vbproj Directory.Build.props",
		text("runtime/dotnet", `<TargetFramework>\s*net(?P<version>[0-9]+\.[0-9]+)`, atLeast),
	},
	{
		"*.csproj *.fsproj *.vbproj Directory.Build.props",
		textList("runtime/dotnet", `<TargetFrameworks>(?P<list>[^<]*)<`, `net(?P<version>[0-9]+\.[0-9]+)[^;]*`),
	},
	{
		"gradle-wrapper.properties",
		text(
			"tool/gradle",
			`(?m)^\s*distributionUrl\s*=.*/gradle-(?P<version>[0-9][^/\n]*?)-(?:bin|all)`+
				`\.zip[^\n]*\n(?:[^\n]*\n)*?(?P<digest>distributionSha256Sum\s*=[^\n]*\n?)`,
			whole,
		),
	},
	{
		"gradle-wrapper.properties",
		text("tool/gradle", `(?m)^\s*distributionUrl\s*=.*/gradle-(?P<version>[0-9][^/\n]*?)-(?:bin|all)\.zip`, whole),
	},
	{"maven-wrapper.properties", text("tool/maven", `(?m)^\s*distributionUrl\s*=.*/apache-maven-(?P<version>[0-9][^/\n]*?)-bin\.zip`, whole)},
	{
		"pom.xml",
		text(
			"runtime/java",
			`<(?:maven\.compiler\.(?:release|source|target)|java\.version|release|source|target)>\s*(?P<version>[0-9][0-9.]*)\s*<`, atLeast,
		),
	},
	{"pom.xml", levelByProperty},
	{
		"*.gradle *.gradle.kts",
		text("runtime/java", `(?m)^\s*(?:java\.)?(?:source|target)Compatibility\s*=?\s*['"]?(?P<version>[0-9][0-9.]*)`, atLeast),
	},
	{
		"*.gradle *.gradle.kts",
		text("runtime/java", `(?m)^\s*(?:java\.)?(?:source|target)Compatibility\s*=?\s*JavaVersion\.VERSION_(?P<version>[0-9]+)`, atLeast),
	},
	{"*.gradle *.gradle.kts", text("runtime/java", `(?m)^\s*(?:options\.)?release(?:\.set\(|\s*=\s*)(?P<version>[0-9]+)`, atLeast)},
	{
		"*.gradle *.gradle.kts",
		text("runtime/java", `(?m)^\s*(?:\w+\.)?jvmTarget(?:\.set\(|\s*=\s*)(?:['"]|JvmTarget\.JVM_)(?P<version>[0-9]+)`, atLeast),
	},
	{
		"*.gradle *.gradle.kts",
		text("runtime/java", `(?m)^\s*(?:\w+\.)?languageVersion(?:\.set\(|\s*=\s*)JavaLanguageVersion\.of\((?P<version>[0-9]+)\)`),
	},
	{"*.gradle *.gradle.kts", text("runtime/java", `(?m)^\s*jvmToolchain\((?P<version>[0-9]+)\)`)},
	{
		"*.gradle *.gradle.kts",
		text("platform/android-compile", `(?m)^\s*compileSdk(?:Version)?\s*[=(]?\s*(?:["']android-)?(?P<version>[0-9]+)`),
	},
	{"*.gradle *.gradle.kts", text("platform/android-min", `(?m)^\s*minSdk(?:Version)?\s*[=(]?\s*(?P<version>[0-9]+)`)},
	{"*.gradle *.gradle.kts", text("platform/android-target", `(?m)^\s*targetSdk(?:Version)?\s*[=(]?\s*(?P<version>[0-9]+)`)},
	{"*.gradle *.gradle.kts", text("tool/ndk", `(?m)^\s*ndkVersion\s*=?\s*["'](?P<version>[0-9][0-9.]*)`, whole)},
	{"Podfile", text("platform/ios", `(?m)^\s*platform\s+:ios\s*,\s*['"](?P<version>[0-9][0-9.]*)['"]`, atLeast)},
	{"Package.swift", text("runtime/swift", `^//\s*swift-tools-version:\s*(?P<version>[0-9][0-9.]*)`, atLeast)},
	{"CMakeLists.txt", text("tool/cmake", `(?mi)^\s*cmake_minimum_required\s*\(\s*VERSION\s+(?P<version>[0-9]+(?:\.[0-9]+)*)`, atLeast)},
	{"pyproject.toml", text("runtime/python", `(?m)^\s*requires-python\s*=\s*["'](?P<version>[^"']+)["']`)},
	{"pyproject.toml", text("runtime/python", `(?m)^python\s*=\s*["'](?P<version>[^"']+)["']`)},
	{"setup.py setup.cfg", text("runtime/python", `(?m)^\s*python_requires\s*=\s*["']?(?P<version>[<>=!~0-9][^"'\n\r]*[0-9*])`)},
	{"Pipfile", text("runtime/python", `(?m)^\s*python_version\s*=\s*["'](?P<version>[^"']+)["']`)},
	{"Gemfile gems.rb", gemfileRuby},
	{"*.gemspec", text("runtime/ruby", `(?m)^\s*\w+\.required_ruby_version\s*=\s*["'](?P<version>[^"']+)["']`)},
	{"mix.exs", text("runtime/elixir", `(?m)^\s*elixir:\s*"(?P<version>[^"]+)"`)},
	{"composer.json", text("runtime/php", `"require"\s*:\s*\{[^}]*?"php"\s*:\s*"(?P<version>[^"]+)"`)},
	{"composer.json", text("runtime/php", `"platform"\s*:\s*\{[^}]*?"php"\s*:\s*"(?P<version>[^"]+)"`, assumed)},
	{"pubspec.yaml", text("runtime/dart", `(?m)^\s+sdk:\s*["']?(?P<version>[0-9<>=^][^"'\r\n#]*[0-9])`)},
	{"pubspec.yaml", text("tool/flutter", `(?m)^\s+flutter:\s*["']?(?P<version>[0-9<>=^][^"'\r\n#]*[0-9])`)},
}

// runtimes are what runtimes are called in files and as images.
var runtimes = map[string]string{
	"node": "node", "nodejs": "node", "node-js": "node", "go": "go", "golang": "go", "python": "python", "ruby": "ruby", "rvm": "ruby",
	"java": "java", "jdk": "java", "openjdk": "java", "eclipse-temurin": "java", "amazoncorretto": "java", "php": "php", "rust": "rust",
	"elixir": "elixir", "erlang": "erlang", "otp": "erlang", "otp-release": "erlang", "dotnet": "dotnet", "swift": "swift", "dart": "dart",
}

// imageTools are images that are named for a tool rather than a runtime.
var imageTools = map[string]string{"gradle": "gradle", "maven": "maven", "flutter": "flutter"}

// setupTasks are parts of the names of tasks that set a runtime up.
var setupTasks = map[string]string{
	"nodetool": "node", "usenode": "node", "usepython": "python", "gotool": "go", "usedotnet": "dotnet", "useruby": "ruby", "javatool": "java",
}
