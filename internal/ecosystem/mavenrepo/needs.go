package mavenrepo

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"bellwether/internal/core/classfile"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// Java is the version of Java that a version needs at least, 0 for none that is known: as its module metadata says, else
// as its classes do. Where its description, which stated reads, says no more than 8, they are not asked for; where there
// are none, it counts.
func (c *Client) Java(ctx context.Context, repositories []Repository, of Coordinates, version string, stated func() int) (int, error) {
	if c.settings.Local != "" && fine(of.Group) && fine(of.Artifact) && fine(version) {
		file, err := within.OpenPlain(filepath.Join(c.settings.Local, filepath.FromSlash(of.file(version, version, ".jar"))))
		if err == nil {
			_ = file.Close()
			classes, err := c.Classes(ctx, repositories, of, version)
			if err != nil {
				return 0, err
			}
			return classes.Java, nil
		}
	}
	pom, err := c.POM(ctx, repositories, of, version)
	if err != nil {
		return 0, err
	}
	if module, err := c.Module(ctx, repositories, of, version, pom); err != nil || module.Java > 0 {
		return module.Java, err
	}
	said := stated()
	if said > 0 && said <= oldJava {
		return said, nil
	}
	// What a build is done with is often newer than what its classes are for.
	java, err := c.compiled(ctx, repositories, of, version)
	if err != nil || java > 0 {
		return java, err
	}
	return said, nil
}

// oldJava is a version of Java that everything runs on by now.
const oldJava = 8

// The sizes of what is asked for of an archive, in bytes: its end, with the directory and the last classes; the most that a
// directory may have; and the beginning of one class.
const (
	endOfArchive  = 64 << 10
	mostDirectory = 4 << 20
	startOfClass  = 8 << 10
)

// compiled is the Java that the classes of an archive need, by a few bytes of it.
func (c *Client) compiled(ctx context.Context, repositories []Repository, of Coordinates, version string) (int, error) {
	for _, r := range repositories {
		file, err := c.fileIn(ctx, r, of, version, ".jar")
		if err != nil || file == "" {
			continue
		}
		java, err := c.glance(ctx, r, file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return 0, fmt.Errorf("asking the repository %s for the archive of %s %s: %w", r.ID, of, version, err)
		}
		return java, nil
	}
	return 0, nil
}

// glance reads the end of an archive, or as much as its directory has, and of its classes those that came along; where there
// are none, the beginning of one.
func (c *Client) glance(ctx context.Context, r Repository, file string) (int, error) {
	size, class := endOfArchive, ""
	for range 3 {
		part := fmt.Sprintf("bytes=-%d", size)
		if class != "" {
			part = class
		}
		answer, err := c.document(ctx, r, file, fetch.Request{
			Form: "maven-java/1", Limit: maxJar, Absent: []byte{}, Forever: true, Part: part, Distil: func(body io.Reader) ([]byte, error) {
				data, err := io.ReadAll(body)
				if err != nil {
					return nil, err
				}
				if class != "" {
					return fmt.Appendf(nil, "java %d", javaOfEntry(data)), nil
				}
				return []byte(ofEnd(data)), nil
			},
		})
		if err != nil {
			return 0, err
		}
		word, rest, _ := strings.Cut(string(answer), " ")
		switch word {
		case "":
			return 0, fs.ErrNotExist
		case "java":
			java, err := strconv.Atoi(rest)
			return java, err
		case "directory":
			if size, err = strconv.Atoi(rest); err != nil {
				return 0, err
			}
		case "class":
			class = rest
		}
	}
	return 0, nil
}

// ofEnd says what the end of an archive tells: "java 17", or what else has to be asked for.
func ofEnd(data []byte) string {
	at := bytes.LastIndex(data, []byte("PK\x05\x06"))
	if at < 0 || len(data) < at+22 {
		return "java 0"
	}
	size, start := int64(binary.LittleEndian.Uint32(data[at+12:])), int64(binary.LittleEndian.Uint32(data[at+16:]))
	if size > mostDirectory || start+size > maxJar {
		return "java 0"
	}
	if int(size) > at {
		return fmt.Sprintf("directory %d", int(size)+endOfArchive)
	}
	whole := start + size + int64(len(data)-at)
	archive, err := zip.NewReader(&ending{data, whole - int64(len(data))}, whole)
	if err != nil {
		return "java 0"
	}
	java, class := 0, ""
	for _, f := range archive.File {
		if path.Ext(f.Name) != ".class" || strings.HasPrefix(f.Name, "META-INF/") || path.Base(f.Name) == "module-info.class" {
			continue
		}
		offset, err := f.DataOffset()
		if err != nil {
			continue // it lies before what came
		}
		r, err := f.Open()
		if err != nil {
			continue
		}
		head := make([]byte, 8)
		if _, err := io.ReadFull(r, head); err == nil && offset >= whole-int64(len(data)) {
			java = max(java, classfile.Level(head))
		}
		_ = r.Close()
	}
	if java > 0 {
		return fmt.Sprintf("java %d", java)
	}
	if at := firstClass(data[at-int(size) : at]); at >= 0 {
		class = fmt.Sprintf("class bytes=%d-%d", at, at+startOfClass-1)
		return class
	}
	return "java 0"
}

// ending is the end of a file as if all of it were there.
type ending struct {
	data  []byte
	start int64
}

func (e *ending) ReadAt(p []byte, at int64) (int, error) {
	if at < e.start || at-e.start > int64(len(e.data)) {
		return 0, io.ErrUnexpectedEOF
	}
	n := copy(p, e.data[at-e.start:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// firstClass is where the first class of a directory has its header, -1 for none (APPNOTE.TXT, 4.3.12).
func firstClass(directory []byte) int64 {
	for len(directory) >= 46 && bytes.HasPrefix(directory, []byte("PK\x01\x02")) {
		n := int(binary.LittleEndian.Uint16(directory[28:]))
		next := 46 + n + int(binary.LittleEndian.Uint16(directory[30:])) + int(binary.LittleEndian.Uint16(directory[32:]))
		if len(directory) < next {
			return -1
		}
		name := string(directory[46 : 46+n])
		if path.Ext(name) == ".class" && !strings.HasPrefix(name, "META-INF/") && path.Base(name) != "module-info.class" {
			return int64(binary.LittleEndian.Uint32(directory[42:]))
		}
		directory = directory[next:]
	}
	return -1
}

// javaOfEntry is the Java that a class needs whose header and beginning a piece of an archive has.
func javaOfEntry(data []byte) int {
	if len(data) < 30 || !bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		return 0
	}
	start := 30 + int(binary.LittleEndian.Uint16(data[26:])) + int(binary.LittleEndian.Uint16(data[28:]))
	if start > len(data) {
		return 0
	}
	head := make([]byte, 8)
	var r io.Reader = bytes.NewReader(data[start:])
	if binary.LittleEndian.Uint16(data[8:]) == zip.Deflate {
		r = flate.NewReader(r)
	}
	if _, err := io.ReadFull(r, head); err != nil {
		return 0
	}
	return classfile.Level(head)
}
