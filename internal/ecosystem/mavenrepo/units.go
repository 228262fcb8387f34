package mavenrepo

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/classfile"
	"bellwether/internal/core/linkage"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// The bounds of an archive: bytes as it comes, of one class, of all classes, and how many there are.
const (
	maxJar     = 256 << 20
	maxClass   = 8 << 20
	maxClasses = 1 << 30
	MaxUnits   = 200_000
)

// unitsForm names the form in which summaries are kept.
const unitsForm = "maven-units/2"

// Classes are what is in a version's archive.
type Classes struct {
	Java  int            // the version of Java that all of them need at least; 0 for no classes
	Units []linkage.Unit // with what they refer to
}

// Classes are those of a version's archive: from the client's own cache, else from the first repository that has it. There
// are none for what has no archive.
func (c *Client) Classes(ctx context.Context, repositories []Repository, of Coordinates, version string) (*Classes, error) {
	if !fine(of.Group) || !fine(of.Artifact) || !fine(version) {
		return nil, fmt.Errorf("%q is no name of a version of a package", of.String()+":"+version)
	}
	found := cached(c, c.classes, of.String()+":"+version, func() (*Classes, error) {
		all := &Classes{}
		payload, err := c.summary(ctx, repositories, of, version)
		if err != nil || len(payload) == 0 {
			return all, err
		}
		return all, cbor.Unmarshal(payload, all)
	})
	return found.value, found.err
}

func (c *Client) summary(ctx context.Context, repositories []Repository, of Coordinates, version string) ([]byte, error) {
	file := of.file(version, version, ".jar")
	if c.settings.Local != "" {
		if data, err := within.Plain(filepath.Join(c.settings.Local, filepath.FromSlash(file)), maxJar); err == nil {
			sum := sha256.Sum256(data)
			return c.around.Client.Derive(
				"archive "+hex.EncodeToString(sum[:]),
				unitsForm,
				func() ([]byte, error) { return summarised(data) },
			)
		}
	}
	for _, r := range repositories {
		file, err := c.fileIn(ctx, r, of, version, ".jar")
		if err != nil {
			return nil, err
		}
		if file == "" {
			continue
		}
		payload, err := c.document(ctx, r, file, fetch.Request{
			Form: unitsForm, Limit: maxJar, Absent: []byte{}, Forever: true, Distil: func(body io.Reader) ([]byte, error) {
				data, err := io.ReadAll(body)
				if err == nil {
					err = c.verify(ctx, r, file, data)
				}
				if err != nil {
					return nil, err
				}
				return summarised(data)
			},
		})
		if err != nil {
			return nil, fmt.Errorf("asking the repository %s for the archive of %s %s: %w", r.ID, of, version, err)
		}
		if len(payload) > 0 {
			return payload, nil
		}
	}
	return nil, nil
}

// summarised is what an archive's classes declare and refer to. What is for newer runtimes only, and what cannot be
// read, is left out.
func summarised(data []byte) ([]byte, error) {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("the archive: %w", err)
	}
	var all Classes
	var total int64
	for _, f := range archive.File {
		if path.Ext(f.Name) != ".class" || strings.HasPrefix(f.Name, "META-INF/") || f.UncompressedSize64 > maxClass {
			continue
		}
		if len(all.Units) == MaxUnits {
			return nil, errors.New("the archive has too many classes")
		}
		text, err := readClass(f)
		if total += int64(len(text)); total > maxClasses {
			return nil, errors.New("the archive is too large when it is unpacked")
		}
		if err != nil {
			continue
		}
		if unit, java, err := ReadUnit(text); err == nil {
			all.Units = append(all.Units, unit)
			if path.Base(f.Name) != "module-info.class" { // which older ones do not read
				all.Java = max(all.Java, java)
			}
		}
	}
	return cbor.Marshal(all)
}

func readClass(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, maxClass))
}

// ReadUnit reads a class file: what it declares and refers to, and the version of Java that it needs at least.
func ReadUnit(text []byte) (u linkage.Unit, java int, err error) {
	class, err := classfile.Read(text)
	if err != nil {
		return u, 0, err
	}
	return unitOf(class), class.Java(), nil
}

func unitOf(c *classfile.Class) linkage.Unit {
	u := linkage.Unit{Name: c.Name, Bases: slices.Clone(c.Interfaces), Uses: c.Classes}
	if c.Super != "" {
		u.Bases = append(u.Bases, c.Super)
	}
	for _, m := range c.Declares {
		u.Has = append(u.Has, m.Name+m.Descriptor)
	}
	for _, m := range c.Refers {
		u.Calls = append(u.Calls, linkage.Call{Owner: m.Owner, Member: m.Name + m.Descriptor})
	}
	return u
}
