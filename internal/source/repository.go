package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/client"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	"github.com/go-git/go-git/v5/storage/memory"

	"andamio/internal/core/fault"
	"andamio/internal/web"
)

// openRepository reads the files of a revision from a repository's objects; no working tree is looked at, none is made.
func openRepository(ctx context.Context, p Place) (*Tree, error) {
	repo, err := repository(ctx, p.Repo)
	if err != nil {
		said := fmt.Errorf("the repository %s cannot be read: %w", withoutPassword(p.Repo), told(err, p.Repo))
		if errors.Is(err, transport.ErrRepositoryNotFound) || errors.Is(err, git.ErrRepositoryNotExists) {
			return nil, fault.As(fault.NotFound, said)
		}
		return nil, fault.As(fault.Unavailable, said)
	}
	rev := p.Rev
	if rev == "" {
		rev = "HEAD"
	}
	hash, err := resolve(repo, rev)
	if err != nil {
		return nil, fault.NotFoundf("the repository %s has no revision %q: name a branch, a tag or a commit", withoutPassword(p.Repo), rev)
	}
	commit, err := repo.CommitObject(*hash)
	if err != nil {
		return nil, fmt.Errorf("%q is no commit: %w", rev, err)
	}
	tree, err := commit.Tree()
	if err != nil {
		return nil, err
	}
	files, err := treeFiles(tree)
	if err != nil {
		return nil, fmt.Errorf("the repository %s: %w", withoutPassword(p.Repo), err)
	}
	short := hash.String()[:10]
	t := &Tree{Dir: withoutPassword(p.Repo) + " at " + short, Revision: hash.String()}
	return t, t.within(files, strings.Trim(path.Clean("/"+p.Path), "/"))
}

// fetchPatience is how long a repository may take to be fetched.
const fetchPatience = 2 * time.Minute

// What repositories are fetched with follows no redirect: a password in an address is meant for that address alone.
func init() {
	over := githttp.NewClient(web.Client(fetchPatience, nil))
	client.InstallProtocol("http", over)
	client.InstallProtocol("https", over)
}

// repository opens one on disk, or fetches a remote one into memory.
func repository(ctx context.Context, url string) (*git.Repository, error) {
	if info, err := os.Stat(url); err == nil && info.IsDir() {
		return git.PlainOpenWithOptions(url, &git.PlainOpenOptions{DetectDotGit: true})
	}
	if dir, ok := strings.CutPrefix(url, "file://"); ok {
		return git.PlainOpen(dir)
	}
	ctx, cancel := context.WithTimeout(ctx, fetchPatience)
	defer cancel()
	return git.CloneContext(ctx, memory.NewStorage(), nil, &git.CloneOptions{URL: url, NoCheckout: true, Tags: git.AllTags})
}

// resolve finds a commit by branch, tag or hash; of a remote repository, branches are known as the remote's.
func resolve(repo *git.Repository, rev string) (*plumbing.Hash, error) {
	for _, name := range []string{rev, "refs/remotes/origin/" + rev, "refs/tags/" + rev} {
		if hash, err := repo.ResolveRevision(plumbing.Revision(name)); err == nil {
			return hash, nil
		}
	}
	return nil, errors.New("not found")
}

// treeFiles reads the regular files of a commit's tree. Links are left out: they could lead anywhere.
func treeFiles(tree *object.Tree) (fileMap, error) {
	files := fileMap{}
	left := int64(maxTotal)
	err := tree.Files().ForEach(func(f *object.File) error {
		if f.Mode != filemode.Regular && f.Mode != filemode.Executable && f.Mode != filemode.Deprecated {
			return nil
		}
		if !fs.ValidPath(f.Name) {
			return fmt.Errorf("%q: this path leads out of the repository", f.Name)
		}
		if f.Size > min(left, MaxFile) || len(files) > maxFiles {
			return fmt.Errorf("%q: this is more than is read of a template", f.Name)
		}
		r, err := f.Reader()
		if err != nil {
			return err
		}
		defer r.Close()
		data, err := io.ReadAll(io.LimitReader(r, MaxFile))
		files[f.Name] = data
		left -= int64(len(data))
		return err
	})
	return files, err
}

// within settles which of the files is the template: the path may be a file, a folder, or nothing.
func (t *Tree) within(files fileMap, name string) error {
	var err error
	switch {
	case name == "":
		t.Files = files
	case files[name] != nil:
		dir := path.Dir(name)
		t.Files, err = fs.Sub(files, dir)
		t.Root = path.Base(name)
		return err
	case !files.has(name):
		return fmt.Errorf("%s: there is no template here: no file or folder %q", t.Dir, name)
	default:
		if t.Files, err = fs.Sub(files, name); err != nil {
			return err
		}
	}
	if t.Root, err = FindRoot(t.Files); err != nil {
		return fmt.Errorf("%s: %w", t.Dir, err)
	}
	return nil
}

// withoutPassword is an address as it may be shown.
func withoutPassword(url string) string {
	scheme, rest, ok := strings.Cut(url, "://")
	if !ok {
		return url
	}
	rest, _, _ = strings.Cut(rest, "?") // which may say who one is, too
	if at := strings.LastIndexByte(rest, '@'); at >= 0 && (!strings.Contains(rest[:at], "/") || secretly(rest[:at])) {
		rest = rest[at+1:]
	}
	return scheme + "://" + rest
}

// secretly reports that what stands before an @ and has a slash in it is no host with a path: what follows its colon is no
// port, but a password with a slash.
func secretly(before string) bool {
	host, _, _ := strings.Cut(before, "/")
	_, port, ok := strings.Cut(host, ":")
	_, err := strconv.ParseUint(port, 10, 16)
	return ok && err != nil
}

// told is an error without the address as it was given, and without what may be a password in one.
func told(err error, url string) error {
	text := strings.ReplaceAll(err.Error(), url, withoutPassword(url))
	return errors.New(passwords.ReplaceAllString(text, "://"))
}

// passwords are what stands before the host of an address, as far as it can be told.
var passwords = regexp.MustCompile(`://[^/"]*@`)
