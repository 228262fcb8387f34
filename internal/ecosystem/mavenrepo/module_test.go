package mavenrepo

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReadModule(t *testing.T) {
	const kotlin = `"org.jetbrains.kotlin.platform.type": `
	variant := func(usage, platform, java, at string) string {
		return `{"attributes": {"org.gradle.usage": "` + usage + `", ` + kotlin + `"` + platform + `"` + java + `}` + at + `}`
	}
	at := `, "available-at": {"url": "../..", "group": "pier", "module": "quay-jvm", "version": "3"}`
	here, there := variant("java-runtime", "jvm", "", ""), variant("java-api", "jvm", "", at)
	eleven := variant("java-runtime", "jvm", `, "org.gradle.jvm.version": 11`, at)
	for _, one := range []struct {
		name, text string
		want       Module
	}{
		{"its own", `{"variants": [` + variant("java-api", "jvm", `, "org.gradle.jvm.version": 17`, "") + `]}`, Module{Java: 17}},
		{
			"in another package", `{"variants": [` + variant("kotlin-metadata", "common", "", "") + `,` + there + `,` + eleven + `]}`,
			Module{Java: 11, Elsewhere: Coordinates{Group: "pier", Artifact: "quay-jvm"}},
		},
		{"one of them here", `{"variants": [` + there + `,` + here + `]}`, Module{}},
		{"of another platform", `{"variants": [` + variant("java-api", "androidJvm", "", at) + `]}`, Module{}},
		{"no name", `{"variants": [` + variant("java-api", "jvm", "", `, "available-at": {"group": "../..", "module": "x y"}`) + `]}`, Module{}},
		{"no metadata", `<html>`, Module{}},
	} {
		assert.Equal(t, one.want, readModule([]byte(one.text)), one.name)
	}
}
