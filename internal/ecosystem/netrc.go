package ecosystem

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"io/fs"
	"path/filepath"
	"runtime"
	"syscall"

	"bellwether/internal/core/model"
	"bellwether/internal/host/within"
)

// maxNetrc bounds a file of logins, in bytes.
const maxNetrc = 1 << 20

// Netrc are the person's logins as values of the header Authorization, by host, from the file
// that NETRC names, else from the one in the home folder. Those are for clients that read them, over TLS alone.
func (s Surroundings) Netrc() (map[string]string, error) {
	file := s.Env("NETRC")
	if file == "" {
		file = filepath.Join(s.Home, map[bool]string{true: "_netrc", false: ".netrc"}[runtime.GOOS == "windows"])
	}
	logins := map[string]string{}
	data, err := within.Plain(file, maxNetrc)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return logins, nil
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the logins of hosts", File: file, Wrong: model.Reason(err)}
	}
	words := bufio.NewScanner(bytes.NewReader(data))
	words.Split(bufio.ScanWords)
	var host, user string
	for words.Scan() {
		switch words.Text() {
		case "machine":
			words.Scan()
			host, user = words.Text(), ""
		case "default":
			host = ""
		case "login":
			words.Scan()
			user = words.Text()
		case "password":
			words.Scan()
			if host != "" && logins[host] == "" {
				logins[host] = "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+words.Text()))
			}
		}
	}
	return logins, nil
}
