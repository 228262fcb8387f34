// Package classfile reads class files of the Java virtual machine (The Java Virtual Machine
// Specification, chapter 4): what a class declares, what it refers to, and which machine it needs.
package classfile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Class is what a class file says. Names of classes have slashes between: "org/pier/Quay".
type Class struct {
	Name       string
	Super      string // empty for that of all
	Interfaces []string
	Major      int      // the version of its format
	Declares   []Member // its fields and methods, but for private ones
	Refers     []Member // fields and methods of classes that it uses
	Classes    []string // classes that it uses in any way, without itself
}

// Member is a field or a method of a class.
type Member struct {
	Owner      string // empty for one of the class itself
	Name       string
	Descriptor string
	Field      bool
}

// Java is the version of Java that a class needs at least.
func (c *Class) Java() int { return max(c.Major-44, 1) }

// Level is the version of Java that a class needs, by its first eight bytes; 0 where they are not those of a class.
func Level(head []byte) int {
	if len(head) < 8 || binary.BigEndian.Uint32(head) != 0xCAFEBABE {
		return 0
	}
	return max(int(binary.BigEndian.Uint16(head[6:]))-44, 1)
}

// The tags of constants.
const (
	tagText         = 1
	tagInteger      = 3
	tagFloat        = 4
	tagLong         = 5
	tagDouble       = 6
	tagClass        = 7
	tagString       = 8
	tagField        = 9
	tagMethod       = 10
	tagInterface    = 11
	tagNameAndType  = 12
	tagMethodHandle = 15
	tagMethodType   = 16
	tagDynamic      = 17
	tagInvoke       = 18
	tagModule       = 19
	tagPackage      = 20
)

const private = 0x0002

// errShort is the error of a file that ends too early.
var errShort = errors.New("it ends in the middle")

// constant is one of the pool: a text, or up to two others that it is made of.
type constant struct {
	tag  byte
	text string
	a, b int
}

// reader reads numbers, and remembers that there were too few.
type reader struct {
	data []byte
	err  error
}

func (r *reader) bytes(n int) []byte {
	if n > len(r.data) || n < 0 {
		r.err = errShort
		r.data = nil
		return make([]byte, min(max(n, 0), 8))
	}
	part := r.data[:n]
	r.data = r.data[n:]
	return part
}

func (r *reader) byte() byte { return r.bytes(1)[0] }
func (r *reader) short() int { return int(binary.BigEndian.Uint16(r.bytes(2))) }
func (r *reader) long() int  { return int(binary.BigEndian.Uint32(r.bytes(4))) }

// Read reads a class file.
func Read(data []byte) (*Class, error) {
	r := &reader{data: data}
	if r.long() != 0xCAFEBABE {
		return nil, errors.New("it is no class file")
	}
	r.short() // the minor version
	c := &Class{Major: r.short()}
	pool, err := r.pool()
	if err != nil {
		return nil, err
	}
	r.short() // access
	c.Name, c.Super = pool.class(r.short()), pool.class(r.short())
	for range r.short() {
		if r.err != nil {
			return nil, r.err
		}
		c.Interfaces = append(c.Interfaces, pool.class(r.short()))
	}
	used := map[string]bool{}
	for _, field := range []bool{true, false} {
		for range r.short() {
			if r.err != nil {
				return nil, r.err
			}
			access, name, descriptor := r.short(), pool.text(r.short()), pool.text(r.short())
			if access&private == 0 {
				c.Declares = append(c.Declares, Member{Name: name, Descriptor: descriptor, Field: field})
			}
			inDescriptor(descriptor, used)
			r.attributes()
		}
	}
	if r.err != nil {
		return nil, r.err
	}
	if c.Name == "" {
		return nil, errors.New("it names no class")
	}
	pool.uses(c, used)
	return c, nil
}

// attributes passes over what a member says besides.
func (r *reader) attributes() {
	for range r.short() {
		r.short()
		r.bytes(r.long())
		if r.err != nil {
			return
		}
	}
}

type pool []constant

func (r *reader) pool() (pool, error) {
	count := r.short()
	p := make(pool, 1, max(count, 1))
	for len(p) < count {
		k := constant{tag: r.byte()}
		switch k.tag {
		case tagText:
			k.text = string(r.bytes(r.short()))
		case tagInteger, tagFloat:
			r.bytes(4)
		case tagLong, tagDouble:
			r.bytes(8)
			p = append(p, k)
			k = constant{} // it takes two places
		case tagClass, tagString, tagMethodType, tagModule, tagPackage:
			k.a = r.short()
		case tagField, tagMethod, tagInterface, tagNameAndType, tagDynamic, tagInvoke:
			k.a, k.b = r.short(), r.short()
		case tagMethodHandle:
			r.byte()
			k.a = r.short()
		default:
			return nil, fmt.Errorf("its constants have the unknown tag %d", k.tag)
		}
		if r.err != nil {
			return nil, r.err
		}
		p = append(p, k)
	}
	return p, nil
}

func (p pool) at(i int, tag byte) constant {
	if i <= 0 || i >= len(p) || p[i].tag != tag {
		return constant{}
	}
	return p[i]
}

func (p pool) text(i int) string  { return p.at(i, tagText).text }
func (p pool) class(i int) string { return p.text(p.at(i, tagClass).a) }

// uses notes what the constants refer to.
func (p pool) uses(c *Class, used map[string]bool) {
	seen := map[Member]bool{}
	for _, k := range p {
		switch k.tag {
		case tagClass:
			if name := p.text(k.a); strings.HasPrefix(name, "[") {
				inDescriptor(name, used)
			} else if name != "" {
				used[name] = true
			}
		case tagMethodType:
			inDescriptor(p.text(k.a), used)
		case tagNameAndType:
			inDescriptor(p.text(k.b), used)
		case tagField, tagMethod, tagInterface:
			nt := p.at(k.b, tagNameAndType)
			m := Member{p.class(k.a), p.text(nt.a), p.text(nt.b), k.tag == tagField}
			if m.Owner != "" && m.Owner != c.Name && m.Owner[0] != '[' && !seen[m] {
				seen[m] = true
				c.Refers = append(c.Refers, m)
			}
		}
	}
	delete(used, c.Name)
	for name := range used {
		c.Classes = append(c.Classes, name)
	}
	slices.Sort(c.Classes)
}

// inDescriptor notes the classes of a descriptor: "(ILorg/pier/Quay;)[Ljava/lang/String;".
func inDescriptor(text string, used map[string]bool) {
	for {
		_, rest, found := strings.Cut(text, "L")
		name, after, closed := strings.Cut(rest, ";")
		if !found || !closed {
			return
		}
		used[name] = true
		text = after
	}
}
