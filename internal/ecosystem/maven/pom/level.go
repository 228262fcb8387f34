package pom

import (
	"strconv"
	"strings"
)

// levels are the properties by which the compiler is told which Java to compile for, and what its plugin is told.
var (
	levels  = []string{"maven.compiler.release", "maven.compiler.target"}
	options = []string{"release", "target"}
)

// Level is the Java that a package is compiled for, as its description and its parents say; 0 for not said.
func (e *Effective) Level() int {
	for _, at := range e.Lineage {
		for _, plugins := range []string{"plugins", "pluginManagement"} {
			list := at.Root.At("build", plugins)
			if plugins == "pluginManagement" {
				list = list.Child("plugins")
			}
			for _, plugin := range list.All("plugin") {
				if plugin.Value("artifactId") != "maven-compiler-plugin" {
					continue
				}
				for _, name := range options {
					if java := javaNumber(e.Expand(plugin.Child("configuration").Value(name))); java > 0 {
						return java
					}
				}
			}
		}
	}
	for _, name := range levels {
		if v, ok := e.lookUp(name); ok {
			if java := javaNumber(e.Expand(v.Text)); java > 0 {
				return java
			}
		}
	}
	return 0
}

// javaNumber reads how a version of Java is written: "17", "1.8"; 0 for another text.
func javaNumber(text string) int {
	java, err := strconv.Atoi(strings.TrimPrefix(text, "1."))
	if err != nil || java < 1 || java > 999 {
		return 0
	}
	return java
}
