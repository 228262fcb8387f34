package mavenrepo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// Module is what module metadata says of a version besides its description (Gradle Module Metadata specification).
type Module struct {
	Java int // the version of Java that it needs at least, 0 for none that is stated: that of the variant that needs least
	// Elsewhere is the package that has its classes for Java, if it has none itself.
	Elsewhere Coordinates
}

// withModule is what a description says that has module metadata beside it.
const withModule = "published-with-gradle-metadata"

// Module reads the metadata of a version whose description, pom, says that there is some; else it is empty.
func (c *Client) Module(ctx context.Context, repositories []Repository, of Coordinates, version string, pom []byte) (m Module, err error) {
	if !bytes.Contains(pom, []byte(withModule)) {
		return m, nil
	}
	for _, r := range repositories {
		file, err := c.fileIn(ctx, r, of, version, ".module")
		if err != nil || file == "" {
			continue
		}
		text, err := c.checked(ctx, r, file, MaxPOM)
		if err != nil {
			return m, fmt.Errorf("asking the repository %s for the metadata of %s %s: %w", r.ID, of, version, err)
		}
		if text != nil {
			return readModule(text), nil
		}
	}
	return m, nil
}

// readModule reads module metadata; what cannot be read says nothing.
func readModule(text []byte) (m Module) {
	var metadata struct {
		Variants []struct {
			Attributes map[string]any `json:"attributes"`
			Elsewhere  *struct {
				Group  string `json:"group"`
				Module string `json:"module"`
			} `json:"available-at"`
		} `json:"variants"`
	}
	if json.Unmarshal(text, &metadata) != nil {
		return m
	}
	own := false
	for _, v := range metadata.Variants {
		java, is := v.Attributes["org.gradle.jvm.version"].(float64)
		if is && java > 0 && java < 1000 && (m.Java == 0 || int(java) < m.Java) {
			m.Java = int(java)
		}
		usage, _ := v.Attributes["org.gradle.usage"].(string)
		platform, stated := v.Attributes["org.jetbrains.kotlin.platform.type"].(string)
		switch {
		case !strings.HasPrefix(usage, "java-") || stated && platform != "jvm":
		case v.Elsewhere == nil:
			own = true
		default:
			m.Elsewhere = Coordinates{Group: v.Elsewhere.Group, Artifact: v.Elsewhere.Module}
		}
	}
	if _, fine := Read(m.Elsewhere.String()); own || !fine {
		m.Elsewhere = Coordinates{}
	}
	return m
}
