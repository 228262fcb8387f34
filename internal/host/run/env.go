package run

import (
	"os"
	"slices"
	"strings"
)

// asking are the variables that a program gets which is only asked something. Names
// that end with "*" stand for all that begin so.
var asking = strings.Fields(`
	PATH HOME USER LOGNAME LANG TZ TMPDIR TEMP TMP XDG_* SSH_AUTH_SOCK SSH_AGENT_PID
	HTTP_PROXY HTTPS_PROXY NO_PROXY ALL_PROXY http_proxy https_proxy no_proxy all_proxy
	SSL_CERT_FILE SSL_CERT_DIR GIT_SSL_CAINFO GIT_SSL_CAPATH GIT_HTTP_LOW_SPEED_LIMIT GIT_HTTP_LOW_SPEED_TIME
	APPDATA COMSPEC HOMEDRIVE HOMEPATH LOCALAPPDATA PATHEXT PROGRAMDATA ProgramFiles SYSTEMROOT SystemRoot USERPROFILE WINDIR
	GOENV GOMODCACHE GONOPROXY GONOSUMDB GOPATH GOPRIVATE GOPROXY GOROOT GOSUMDB
	npm_config_* NPM_CONFIG_*
	ASDF_* DOTNET_ROOT JAVA_HOME MISE_* NVM_DIR PYENV_* RBENV_* RUSTUP_HOME SDKMAN_DIR VOLTA_HOME
`)

// still keeps tools from looking for newer versions of themselves, or fetching the one
// that a project asks for.
var still = []string{
	"CHECKPOINT_DISABLE=1", "COREPACK_ENABLE_NETWORK=0", "DOTNET_CLI_TELEMETRY_OPTOUT=1", "DOTNET_NOLOGO=1",
	"GOTOOLCHAIN=local", "GOWORK=off", "RUSTUP_AUTO_INSTALL=0", "npm_config_update_notifier=false", "npm_config_offline=true",
}

// Asking is the environment of a program that is only asked something, its version or
// a setting: built from a list, so that nothing in it can make the program run another.
func Asking(more ...string) []string {
	var env []string
	for _, pair := range os.Environ() {
		if name, _, _ := strings.Cut(pair, "="); listed(asking, name) {
			env = append(env, pair)
		}
	}
	return append(append(env, still...), more...)
}

// ofGit are the variables by which git tells what it calls where it is at work, and
// those that change what git does or run something. What belongs to one repository
// must not reach a git that is to work on another (git rev-parse --local-env-vars).
var ofGit = strings.Fields(`
	GIT_ALTERNATE_OBJECT_DIRECTORIES GIT_ATTR_SOURCE GIT_CEILING_DIRECTORIES GIT_COMMON_DIR GIT_CONFIG GIT_CONFIG_COUNT
	GIT_CONFIG_KEY_* GIT_CONFIG_PARAMETERS GIT_CONFIG_VALUE_* GIT_DEFAULT_HASH GIT_DEFAULT_REF_FORMAT GIT_DIFF_OPTS GIT_DIR
	GIT_DISCOVERY_ACROSS_FILESYSTEM GIT_EXTERNAL_DIFF GIT_GLOB_PATHSPECS GIT_GRAFT_FILE GIT_ICASE_PATHSPECS
	GIT_IMPLICIT_WORK_TREE GIT_INDEX_FILE GIT_INDEX_VERSION GIT_INTERNAL_* GIT_LITERAL_PATHSPECS GIT_NAMESPACE
	GIT_NOGLOB_PATHSPECS GIT_NO_REPLACE_OBJECTS GIT_OBJECT_DIRECTORY GIT_PREFIX GIT_QUARANTINE_PATH GIT_REFLOG_ACTION
	GIT_REF_STORAGE_FORMAT GIT_REPLACE_REF_BASE GIT_SEQUENCE_EDITOR GIT_SHALLOW_FILE GIT_TEMPLATE_DIR GIT_WORK_TREE
`)

// Building is the environment of what a person asked to run: stages, and commits with
// their hooks. It is the person's own, without what belongs to a git that called us.
func Building(more ...string) []string {
	env := slices.DeleteFunc(os.Environ(), func(pair string) bool {
		name, _, _ := strings.Cut(pair, "=")
		return listed(ofGit, name)
	})
	return append(env, more...)
}

// CalledByGit gives the variables that a git set which calls this program: in a hook,
// an alias, or a rebase that runs commands.
func CalledByGit() (names []string) {
	for _, name := range []string{"GIT_DIR", "GIT_INDEX_FILE", "GIT_WORK_TREE"} {
		if os.Getenv(name) != "" {
			names = append(names, name)
		}
	}
	return names
}

func listed(list []string, name string) bool {
	return slices.ContainsFunc(list, func(entry string) bool {
		start, open := strings.CutSuffix(entry, "*")
		return entry == name || open && strings.HasPrefix(name, start)
	})
}
