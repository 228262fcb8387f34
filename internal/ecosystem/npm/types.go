package npm

import (
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// typesPrefix is what names of packages begin with that describe the types of others:
// "@types/quay" those of quay, "@types/pier__quay" those of @pier/quay.
const typesPrefix = "@types/"

// Describes is the package whose types a package describes, or Node.js for those of the
// runtime.
func (Ecosystem) Describes(name string) (s model.Subject, ok bool) {
	of, ok := strings.CutPrefix(name, typesPrefix)
	if !ok {
		return s, false
	}
	if of == "node" {
		return model.Subject{Kind: "runtime", Name: "node"}, true
	}
	if scope, bare, scoped := strings.Cut(of, "__"); scoped {
		of = "@" + scope + "/" + bare
	}
	return model.Subject{Kind: packagejson.Name, Name: of}, true
}
