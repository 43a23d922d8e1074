// Package parts finds out what of others is in the programs and in the console, under which licences, and writes it down: as a bill of
// materials (CycloneDX 1.7) and as the texts that the licences want to go along.
package parts

import (
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/google/uuid"
)

// Part is something of others that is in the product.
type Part struct {
	Name, Version string
	URL           string   // a package URL (purl)
	Licence       string   // its SPDX identifiers, joined by AND
	Texts         []string // of its licence, and what it wants to go along
}

// Allowed are licences that let us ship what stands under them as we ship it.
var Allowed = []string{"0BSD", "Apache-2.0", "BSD-2-Clause", "BSD-3-Clause", "CC0-1.0", "ISC", "MIT", "MPL-2.0", "OFL-1.1", "Unlicense"}

// by are words that stand in one licence and in no other one of those that we allow.
var by = []struct {
	id   string
	text *regexp.Regexp
}{
	{"Apache-2.0", regexp.MustCompile(`Apache License,? Version 2\.0|apache\.org/licenses/LICENSE-2\.0`)},
	{"MPL-2.0", regexp.MustCompile(`Mozilla Public License,? [Vv]ersion 2\.0`)},
	{"OFL-1.1", regexp.MustCompile(`SIL OPEN FONT LICENSE Version 1\.1|SIL Open Font License, Version 1\.1`)},
	{"MIT", regexp.MustCompile(`Permission is hereby granted, free of charge, to any person obtaining a copy`)},
	{"ISC",
		regexp.MustCompile(`Permission to use, copy, modify, and(/or)? distribute this software for any purpose with or without fee is hereby granted, provided that`)},
	{"0BSD",
		regexp.MustCompile(`Permission to use, copy, modify, and/or distribute this software for any purpose with or without fee is hereby granted\. THE`)},
	{"BSD-3-Clause",
		regexp.MustCompile(`(?i)Redistribution and use in source and binary forms.*(neither the name|the names? of .{0,80} (may|must) not be used)`)},
	{"BSD-2-Clause", regexp.MustCompile(`(?i)Redistribution and use in source and binary forms`)},
	{"CC0-1.0", regexp.MustCompile(`CC0 1\.0 Universal`)},
	{"Unlicense", regexp.MustCompile(`This is free and unencumbered software released into the public domain`)},
}

// LicencesOf tells under which licences a text puts something; empty where it is none that is known here.
func LicencesOf(text string) (ids []string) {
	text = strings.Join(strings.Fields(strings.NewReplacer("//", " ", "*", " ", "#", " ").Replace(text)), " ")
	for _, x := range by {
		if x.id == "BSD-2-Clause" && slices.Contains(ids, "BSD-3-Clause") {
			continue
		}
		if x.text.MatchString(text) {
			ids = append(ids, x.id)
		}
	}
	return
}

var licenceFile = regexp.MustCompile(`(?i)^(licen[cs]e|copying|copyright|notice|patents)([-._].*)?$`)

// texts reads what a folder says of its licence.
func texts(dir string) (out []string, err error) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, f := range list {
		if f.Type().IsRegular() && licenceFile.MatchString(f.Name()) && !strings.HasSuffix(f.Name(), ".go") {
			b, err := os.ReadFile(filepath.Join(dir, f.Name()))
			if err != nil {
				return nil, err
			}
			out = append(out, string(b))
		}
	}
	return out, nil
}

func licence(of []string) string {
	var ids []string
	for _, text := range of {
		for _, id := range LicencesOf(text) {
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	slices.Sort(ids)
	return strings.Join(ids, " AND ")
}

// OfPrograms lists what is linked into programs, the language's own library first. The modules have to be at hand, as they are where they
// were built.
func OfPrograms(paths ...string) (out []Part, err error) {
	seen := map[string]bool{}
	for _, path := range paths {
		info, err := buildinfo.ReadFile(path)
		if err != nil {
			return nil, err
		}
		if !seen["std"] {
			seen["std"] = true
			root, err := exec.Command("go", "env", "GOROOT").Output()
			if err != nil {
				return nil, err
			}
			of, err := texts(strings.TrimSpace(string(root)))
			if err != nil {
				return nil, err
			}
			version := strings.TrimPrefix(info.GoVersion, "go")
			out = append(out, Part{"Go standard library", version, "pkg:golang/std@" + version, licence(of), of})
		}
		for _, m := range info.Deps {
			if m.Replace != nil {
				m = m.Replace
			}
			if seen[m.Path] {
				continue
			}
			seen[m.Path] = true
			found, err := exec.Command("go", "mod", "download", "-json", m.Path+"@"+m.Version).Output()
			if err != nil {
				return nil, fmt.Errorf("%s %s: %w", m.Path, m.Version, err)
			}
			var at struct{ Dir string }
			if err := json.Unmarshal(found, &at); err != nil {
				return nil, err
			}
			of, err := texts(at.Dir)
			if err != nil {
				return nil, err
			}
			out = append(out, Part{m.Path, m.Version, "pkg:golang/" + m.Path + "@" + m.Version, licence(of), of})
		}
	}
	return out, nil
}

// OfConsole lists what of packages is in the console, from its lock file and the packages beside it.
func OfConsole(dir string) (out []Part, err error) {
	text, err := os.ReadFile(filepath.Join(dir, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License string
			Dev              bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, err
	}
	for path, p := range lock.Packages {
		if path == "" || p.Dev {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		of, err := texts(filepath.Join(dir, path))
		if err != nil {
			return nil, err
		}
		out = append(out, Part{name, p.Version, "pkg:npm/" + strings.Replace(name, "@", "%40", 1) + "@" + p.Version, p.License, of})
	}
	slices.SortFunc(out, func(a, b Part) int { return strings.Compare(a.URL, b.URL) })
	return slices.CompactFunc(out, func(a, b Part) bool { return a.URL == b.URL }), nil
}

// Check tells of a part that stands under no licence that is allowed, or under none that is known.
func Check(parts []Part) (err error) {
	for _, p := range parts {
		if p.Licence == "" {
			err = errors.Join(err, fmt.Errorf("%s %s: no licence is found", p.Name, p.Version))
			continue
		}
		for id := range strings.SplitSeq(p.Licence, " AND ") {
			if !slices.Contains(Allowed, id) {
				err = errors.Join(err, fmt.Errorf("%s %s: %s is no licence that is allowed (%s)", p.Name, p.Version, id, strings.Join(Allowed, ", ")))
			}
		}
	}
	return err
}

// Bill writes the parts as a bill of materials. The same parts give the same bytes.
func Bill(w io.Writer, version string, at time.Time, parts []Part) error {
	b := cdx.NewBOM()
	all := version
	var list []cdx.Component
	for _, p := range parts {
		all += "\n" + p.URL
		list = append(list, cdx.Component{
			Type: cdx.ComponentTypeLibrary, BOMRef: p.URL, Name: p.Name, Version: p.Version, PackageURL: p.URL,
			Licenses: &cdx.Licenses{{Expression: p.Licence}},
		})
	}
	b.SerialNumber = "urn:uuid:" + uuid.NewSHA1(uuid.NameSpaceURL, []byte(all)).String()
	b.Metadata = &cdx.Metadata{
		Timestamp: at.UTC().Format(time.RFC3339),
		Component: &cdx.Component{Type: cdx.ComponentTypeApplication, BOMRef: "wexillum", Name: "wexillum", Version: version},
	}
	b.Components = &list
	return cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON).SetPretty(true).Encode(b)
}

// Texts writes what goes along with the parts: each with its licence.
func Texts(w io.Writer, parts []Part) (err error) {
	say := func(format string, args ...any) {
		if err == nil {
			_, err = fmt.Fprintf(w, format, args...)
		}
	}
	say("What of others is in Wexillum, and under which licences.\n")
	for _, p := range parts {
		say("\n%s\n%s %s\n%s\n\n", strings.Repeat("=", 78), p.Name, p.Version, p.Licence)
		for _, t := range p.Texts {
			say("%s\n", strings.TrimSpace(t))
		}
	}
	return err
}
