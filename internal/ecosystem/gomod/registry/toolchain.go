package registry

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/ecosystem/gomod/selection"
)

// toolchainPath is the module under which releases of Go are published, after
// the Go Toolchains reference (https://go.dev/doc/toolchain).
const toolchainPath = "golang.org/toolchain"

// firstLanguage is the minor of the first Go that a go line is raised to: the
// first that prunes.
const firstLanguage = 17

// firstWithZero is the minor of the first Go whose first release ends in ".0".
const firstWithZero = 21

// goReleases are the releases of Go that a go line may be raised to: those that
// the proxy offers for this kind of machine, and what the Go at hand can do.
func (r *Registry) goReleases(ctx context.Context) ([]model.Release, error) {
	data, err := r.ask(ctx, protocol.Document{Module: toolchainPath, File: "@v/list", Form: "list/1", Limit: protocol.MaxList})
	if err != nil && !protocol.IsMissing(err) {
		return nil, err
	}
	known := []string{}
	if here, err := (versions.GoRelease{}).Parse(r.GoVersion); err == nil {
		known = append(known, r.GoVersion)
		// A go line may name the first release of a language version, and every one
		// up to that of the Go at hand will do.
		for minor := firstLanguage; ; minor++ {
			text := fmt.Sprintf("1.%d", minor)
			if minor >= firstWithZero {
				text += ".0"
			}
			v, err := versions.GoRelease{}.Parse(text)
			if err != nil || v.Compare(here) > 0 {
				break
			}
			known = append(known, v.String())
		}
	}
	platform := "." + runtime.GOOS + "-" + runtime.GOARCH
	if err == nil {
		for field := range strings.FieldsSeq(string(data)) {
			_, rest, ok := strings.Cut(field, "-go")
			text, mine := strings.CutSuffix(rest, platform)
			if _, err := (versions.GoRelease{}).Parse(text); ok && mine && err == nil {
				known = append(known, text)
			}
		}
	}
	slices.SortFunc(known, selection.CompareGo)
	var releases []model.Release
	for _, v := range slices.Compact(known) {
		rel := model.Release{Version: v}
		if r.GoVersion != "" && selection.CompareGo(v, r.GoVersion) > 0 {
			rel.Unfit = "is not on this machine, which has " + r.GoVersion
		}
		releases = append(releases, rel)
	}
	return releases, nil
}
