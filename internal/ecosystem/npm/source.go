package npm

import (
	"bellwether/internal/ecosystem/npm/packagejson"
)

// IsSource tells whether a manifest's value asks for a repository of the source.
func (Ecosystem) IsSource(value string) bool {
	return packagejson.ReadSpec("", value).Kind == packagejson.SpecGit
}

// SourceRange is the value that asks for a ref of a repository.
func (Ecosystem) SourceRange(address, ref string) string {
	if !packagejson.HasAnyPrefix(address, packagejson.GitPrefixes) {
		address = "git+" + address
	}
	return address + "#" + ref
}
