package git

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// setting is one of git's configuration.
type setting struct{ key, value string }

// bareIsNone keeps a folder that looks like a bare repository from being taken for one:
// it can come with a clone, and its configuration with it.
var bareIsNone = setting{"safe.bareRepository", "explicit"}

// quiet are settings under which git runs nothing while it looks at a repository,
// whatever the repository's own configuration says.
func quiet() []setting {
	return []setting{
		bareIsNone, {"core.fsmonitor", "false"}, {"core.hooksPath", "/dev/null"}, {"core.askPass", ""},
		{"log.showSignature", "false"}, {"gc.auto", "0"}, {"maintenance.auto", "false"}, {"core.alternateRefsCommand", ""},
	}
}

// outweighed are the settings that count where the person, or the machine, has them,
// and not where the repository has: programs that see each file, and files elsewhere
// that git reads.
func outweighed(key string) (otherwise string, ok bool) {
	if strings.HasPrefix(key, "filter.") {
		if strings.HasSuffix(key, ".required") {
			return "false", true
		}
		return "", true
	}
	switch key {
	case "core.excludesfile", "core.attributesfile", "core.sshcommand", "core.gitproxy", "diff.external":
		return "", true
	}
	return "", false
}

// configured gives settings in the form of git's environment (git-config(1),
// GIT_CONFIG_COUNT), where they outweigh all files.
func configured(settings []setting) []string {
	env := []string{fmt.Sprintf("GIT_CONFIG_COUNT=%d", len(settings))}
	for i, s := range settings {
		env = append(env, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, s.key), fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, s.value))
	}
	return env
}

// settingsWithin is how long git may take to read its configuration: it can name files
// without an end.
const settingsWithin = 10 * time.Second

// readSettings takes down which of the repository's settings are not to count, with
// what the person's own configuration says in their place.
func (r *Repo) readSettings(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, settingsWithin)
	defer cancel()
	out, err := r.run(limited, "config", "--list", "--show-scope", "-z")
	if err != nil {
		if ctx.Err() == nil && limited.Err() != nil {
			return fmt.Errorf("git does not come to the end of its configuration within %s; see which files it includes", settingsWithin)
		}
		return err
	}
	own := map[string]string{} // the person's
	var refused []string
	fields := strings.Split(out, "\x00")
	for i := 0; i+1 < len(fields); i += 2 {
		key, value, valued := strings.Cut(fields[i+1], "\n")
		if !valued {
			value = "true"
		}
		switch fields[i] {
		case "system", "global":
			own[key] = value
		case "local", "worktree":
			if _, ok := outweighed(key); ok {
				refused = append(refused, key)
			} else {
				r.local = append(r.local, setting{key, value})
			}
		}
	}
	for _, key := range refused {
		value, known := own[key]
		if !known {
			value, _ = outweighed(key)
		}
		r.outer = append(r.outer, setting{key, value})
	}
	return nil
}

// carried are the settings of a repository that a copy of it is to have, too: how files
// lie on this disk, who commits, where it comes from.
func carried(key string) bool {
	switch key {
	case "core.filemode", "core.ignorecase", "core.precomposeunicode", "core.symlinks", "core.autocrlf", "core.eol", "core.longpaths",
		"user.name", "user.email":
		return true
	}
	return strings.HasPrefix(key, "remote.") && strings.HasSuffix(key, ".url")
}
