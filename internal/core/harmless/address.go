package harmless

import (
	"net/url"
	"strings"
)

// Address shows an address without what could be secret in it: user and password,
// query and fragment. It goes by the structure of addresses (RFC 3986); of one that
// cannot be read it shows the scheme alone.
func Address(address string) string {
	scheme, rest, found := strings.Cut(address, "://")
	if !found {
		if user, host, login := strings.Cut(address, "@"); login { // "git@host:path", "user:secret@host"
			if strings.ContainsAny(host, "@") || strings.Contains(user, ":") {
				return "…"
			}
			return Line(host)
		}
		return Line(address)
	}
	if !plainScheme(scheme) {
		return "…"
	}
	u, err := url.Parse(address)
	if err != nil || u.Opaque != "" || oddHost(u.Host) || u.Host == "" && scheme != "file" {
		return scheme + "://…"
	}
	// "user:1" is a host with a port to who follows the address, and may be the beginning
	// of a login with a slash in its password to who wrote it.
	looksLikeLogin := u.Port() != "" && u.Hostname() != "localhost" && !strings.ContainsAny(u.Hostname(), ".:")
	if u.User != nil && strings.Contains(u.Path, "@") { // nor is it certain there which @ ends the login
		return scheme + "://…"
	}
	if _, behind, cut := strings.Cut(strings.ReplaceAll(rest, "#", "?"), "?"); cut && strings.Contains(behind, "@") {
		return scheme + "://…" // the login may go as far as there
	}
	more := ""
	if u.RawQuery != "" || u.Fragment != "" || strings.ContainsAny(rest, "?#") {
		more = "…"
	}
	shown := scheme + "://" + u.Host
	for i, segment := range strings.Split(strings.TrimPrefix(u.EscapedPath(), "/"), "/") {
		// "@scope" and "@v" are names; anything else with an @ in it may be the end of
		// a password with a slash in it.
		if strings.LastIndex(segment, "@") > 0 || strings.Contains(strings.TrimPrefix(segment, "%40"), "%40") ||
			looksLikeLogin && i > 0 && strings.HasPrefix(segment, "@") {
			return scheme + "://…"
		}
		shown += "/" + segment
	}
	if u.Path == "" {
		shown = strings.TrimSuffix(shown, "/")
	}
	return Line(shown + more)
}

// oddHost tells of what no host is: it may be the beginning of a login.
func oddHost(host string) bool {
	return strings.HasSuffix(host, ":") || strings.Count(host, ":") > 1 && !strings.HasPrefix(host, "[")
}

func plainScheme(s string) bool {
	return s != "" && len(s) <= 20 && !strings.ContainsFunc(s, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '+' && r != '-' && r != '.'
	})
}

// WithoutLogin is an address without user and password, as a file may state it; ok is
// false for one that cannot be read.
func WithoutLogin(address string) (plain string, ok bool) {
	u, err := url.Parse(address)
	if err != nil {
		return "", false
	}
	if u.User == nil {
		return address, true
	}
	u.User = nil
	return u.String(), true
}

// Hide gives a text in which an address stands as Address shows it, and no part of its
// login at all.
func Hide(text, address string) string {
	shown := Address(address)
	if shown == address {
		return text
	}
	text = strings.ReplaceAll(text, address, shown)
	u, err := url.Parse(address)
	if err != nil {
		return text
	}
	var secrets []string
	if u.User != nil {
		password, _ := u.User.Password()
		raw, _, _ := strings.Cut(strings.TrimPrefix(u.User.String(), u.User.Username()), "@")
		secrets = []string{
			u.User.String(), password, u.User.Username(), url.PathEscape(password), url.QueryEscape(password), strings.TrimPrefix(raw, ":"),
		}
	}
	for _, values := range u.Query() {
		secrets = append(secrets, values...)
	}
	for _, secret := range secrets {
		if len(secret) > 3 && secret != "git" {
			text = strings.ReplaceAll(text, secret, "…")
		}
	}
	return text
}
