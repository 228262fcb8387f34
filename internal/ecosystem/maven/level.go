package maven

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/mavenrepo"
)

// levels are the properties by which the compiler is told which Java to compile for, and what its plugin is told.
var (
	levels  = []string{"maven.compiler.release", "maven.compiler.target"}
	options = []string{"release", "target"}
)

// level is the Java that a package is compiled for, as its description and its parents say; 0 for not said.
func (e *effective) level() int {
	for _, at := range e.lineage {
		for _, plugins := range []string{"plugins", "pluginManagement"} {
			list := at.root.At("build", plugins)
			if plugins == "pluginManagement" {
				list = list.Child("plugins")
			}
			for _, plugin := range list.All("plugin") {
				if plugin.Value("artifactId") != "maven-compiler-plugin" {
					continue
				}
				for _, name := range options {
					if java := javaNumber(e.expand(plugin.Child("configuration").Value(name))); java > 0 {
						return java
					}
				}
			}
		}
	}
	for _, name := range levels {
		if v, ok := e.lookUp(name); ok {
			if java := javaNumber(e.expand(v.text)); java > 0 {
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

// neededJava is what a version of Java is needed as; nothing for 0.
func neededJava(java int) []model.Need {
	if java < 1 {
		return nil
	}
	return []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "java"}, Range: fmt.Sprintf(">=%d", java)}}
}

// java notes of packages which Java they need. What cannot be asked for states nothing.
func (r *registry) java(ctx context.Context, s *poms, repositories []mavenrepo.Repository, all []model.Package) error {
	var group errgroup.Group
	group.SetLimit(16)
	for i := range all {
		c, ok := mavenrepo.Read(all[i].Subject.Name)
		if !ok || s.own[c] != nil {
			continue
		}
		e, err := s.of(ctx, repositories, c, all[i].Version, 0)
		if err != nil || e == nil || e.packaging == "pom" {
			continue
		}
		group.Go(func() error {
			if java, err := r.client.Java(ctx, repositories, c, all[i].Version, e.level); err == nil {
				all[i].Needs = neededJava(java)
			}
			return nil
		})
	}
	_ = group.Wait()
	return ctx.Err()
}
