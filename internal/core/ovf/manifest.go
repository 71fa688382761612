package ovf

import (
	"bytes"
	"crypto"
	"crypto/sha1" //nolint:gosec // packages of others have such digests, and that is said
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
)

// digest is a kind of digest that manifests have.
type digest struct {
	name string
	new  func() hash.Hash
	sign crypto.Hash
	// length is how many characters it has in hexadecimal.
	length int
}

// digests are those that are read (DSP0243 1.1 asks for SHA-1, 2.0 for SHA-256).
var digests = []digest{{"SHA1", sha1.New, crypto.SHA1, 40}, {"SHA256", sha256.New, crypto.SHA256, 64}, {"SHA512", sha512.New, crypto.SHA512, 128}}

// called reports that a digest goes by a name, of the several that there are: SHA256, SHA-256, SHA2-256.
func (d digest) called(name string) bool {
	return d.name == strings.ReplaceAll(strings.Replace(name, "SHA2-", "SHA", 1), "-", "")
}

// The forms of a line of a manifest (DSP0243, section 5.1), with the blanks that some put into it, and of what programs print that work out digests.
var (
	byName  = regexp.MustCompile(`^(SHA(?:2?-)?\d+) ?\((.+)\) ?= *([0-9a-fA-F]+)$`)
	byValue = regexp.MustCompile(`^([0-9a-fA-F]{40}|[0-9a-fA-F]{64}|[0-9a-fA-F]{128}) [ *](.+)$`)
)

// sum is what a manifest says of a file.
type sum struct {
	kind  digest
	value string
}

// readSum reads one line of a manifest.
func readSum(text string) (file string, out sum, err error) {
	kind := func(is func(d digest) bool) (err error) {
		i := slices.IndexFunc(digests, is)
		if i < 0 {
			return fmt.Errorf("the manifest has a digest of a kind that is not known, %q; SHA1, SHA256 and SHA512 are", text)
		}
		out.kind = digests[i]
		if len(out.value) != out.kind.length {
			return fmt.Errorf("the manifest says %q, which is no digest of the kind %s", text, out.kind.name)
		}
		return nil
	}
	if m := byName.FindStringSubmatch(text); m != nil {
		out.value = strings.ToLower(m[3])
		return m[2], out, kind(func(d digest) bool { return d.called(m[1]) })
	}
	if m := byValue.FindStringSubmatch(text); m != nil {
		out.value = strings.ToLower(m[1])
		return m[2], out, kind(func(d digest) bool { return d.length == len(m[1]) })
	}
	return "", out, fmt.Errorf("the manifest says %q, which is no digest of a file", text)
}

// verify checks every file against the manifest, if there is one, and the signature of that, if it has one. It says what nobody can say of the package.
func (l *listing) verify() (doubts []string, err error) {
	manifest := l.only(".mf")
	if manifest == "" {
		if name := l.only(".cert"); name != "" {
			return nil, fmt.Errorf("%s signs a manifest, and there is none", name)
		}
		return []string{"it has no manifest (.mf): nobody can say whether it is whole"}, nil
	}
	text, err := l.text(manifest)
	if err != nil {
		return nil, err
	}
	sums := map[string]sum{}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		file, s, err := readSum(line)
		if err != nil {
			return nil, err
		}
		sums[strings.TrimPrefix(file, "./")] = s
	}
	weak := false
	for _, name := range l.order {
		if ext := path.Ext(name); ext == ".mf" || ext == ".cert" {
			continue
		}
		s, listed := sums[name]
		if !listed {
			return nil, fmt.Errorf("the manifest does not say the digest of %s", name)
		}
		weak = weak || s.kind.name == "SHA1"
		if err := l.holds(name, s); err != nil {
			return nil, err
		}
		delete(sums, name)
	}
	for name := range sums {
		return nil, fmt.Errorf("the manifest says the digest of %s, which the archive does not have", name)
	}
	if weak {
		doubts = append(doubts, "its digests are SHA-1: they show that it is whole, and not that nobody has changed it")
	}
	signed, err := l.signature(manifest, text)
	return append(doubts, signed...), err
}

// holds checks the digest of a file.
func (l *listing) holds(name string, s sum) error {
	h := s.kind.new()
	if _, err := io.Copy(h, io.NewSectionReader(l.r, l.files[name].at, l.files[name].size)); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != s.value {
		return fmt.Errorf("%s is damaged: its digest is %s, and the manifest says %s", name, got[:16]+"…", s.value[:16]+"…")
	}
	return nil
}

// only is the file with an ending; "" if there is none.
func (l *listing) only(ext string) string {
	if i := slices.IndexFunc(l.order, func(name string) bool { return path.Ext(name) == ext }); i >= 0 {
		return l.order[i]
	}
	return ""
}

// signature checks the signature of the manifest against the certificate that stands beside it (DSP0243, section 5.1). Who vouches for that nobody here knows.
func (l *listing) signature(manifest string, text []byte) (doubts []string, err error) {
	name := l.only(".cert")
	if name == "" {
		return nil, nil
	}
	cert, err := l.text(name)
	if err != nil {
		return nil, err
	}
	line, rest, _ := bytes.Cut(bytes.TrimLeft(cert, "\r\n\t "), []byte("\n"))
	m := byName.FindStringSubmatch(strings.TrimSpace(string(line)))
	if m == nil || m[2] != manifest {
		return nil, fmt.Errorf("%s begins with %.100q, and not with the signature of %s", name, line, manifest)
	}
	i := slices.IndexFunc(digests, func(d digest) bool { return d.called(m[1]) })
	if i < 0 {
		return nil, fmt.Errorf("%s signs by %s, which is not known", name, m[1])
	}
	who, err := signedBy(digests[i], text, m[3], rest)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return []string{"it is signed by " + who + ", for whom nobody here vouches"}, nil
}
