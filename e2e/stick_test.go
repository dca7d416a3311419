package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
)

// stick is a file system as memory sticks and network shares have it: it knows no links and no rename that doesn't replace, and folds the
// case of names. Before each call, trouble, where it is set, may wait or say how the call fails.
type stick struct {
	dir     string
	trouble atomic.Pointer[func(call, name string) syscall.Errno]
}

func (s *stick) before(call, name string) syscall.Errno {
	if f := s.trouble.Load(); f != nil {
		return (*f)(call, name)
	}
	return 0
}

// mountStick mounts one that keeps its files in a folder of the test.
func mountStick(t *testing.T) *stick {
	t.Helper()
	s := &stick{dir: t.TempDir()}
	root := &stickNode{stick: s, name: t.TempDir()}
	server, err := fs.Mount(s.dir, root, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true, DisableXAttrs: true}})
	if err != nil {
		t.Skipf("no file system of one's own can be mounted here: %v", err)
	}
	t.Cleanup(func() {
		if err := server.Unmount(); err != nil {
			_ = syscall.Unmount(s.dir, syscall.MNT_DETACH)
		}
	})
	return s
}

// stickNode is a file or folder of it. The name of the root is its full path.
type stickNode struct {
	fs.Inode
	stick *stick
	in    *stickNode
	name  string
}

func (n *stickNode) path() string {
	if n.in == nil {
		return n.name
	}
	return filepath.Join(n.in.path(), n.name)
}

// spelled is the name as it is there already, in whichever case.
func (n *stickNode) spelled(name string) string {
	entries, _ := os.ReadDir(n.path())
	for _, e := range entries {
		if strings.EqualFold(e.Name(), name) {
			return e.Name()
		}
	}
	return name
}

func (n *stickNode) child(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	var st syscall.Stat_t
	if err := syscall.Lstat(filepath.Join(n.path(), name), &st); err != nil {
		return nil, fs.ToErrno(err)
	}
	out.FromStat(&st)
	c := n.NewInode(ctx, &stickNode{stick: n.stick, in: n, name: name}, fs.StableAttr{Mode: st.Mode, Ino: st.Ino})
	if known, ok := c.Operations().(*stickNode); ok {
		known.in, known.name = n, name
	}
	return c, 0
}

func (n *stickNode) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	return n.child(ctx, n.spelled(name), out)
}

func (n *stickNode) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	var st syscall.Stat_t
	err := syscall.Lstat(n.path(), &st)
	out.FromStat(&st)
	return fs.ToErrno(err)
}

func (n *stickNode) Setattr(ctx context.Context, f fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if size, ok := in.GetSize(); ok {
		if err := os.Truncate(n.path(), int64(size)); err != nil {
			return fs.ToErrno(err)
		}
	}
	if at, ok := in.GetMTime(); ok {
		if err := os.Chtimes(n.path(), at, at); err != nil {
			return fs.ToErrno(err)
		}
	}
	return n.Getattr(ctx, f, out)
}

func (n *stickNode) Mkdir(ctx context.Context, name string, mode uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if wrong := n.stick.before("mkdir", name); wrong != 0 {
		return nil, wrong
	}
	if n.spelled(name) != name {
		return nil, syscall.EEXIST
	}
	if err := os.Mkdir(filepath.Join(n.path(), name), os.FileMode(mode)); err != nil {
		return nil, fs.ToErrno(err)
	}
	return n.child(ctx, name, out)
}

func (n *stickNode) Create(ctx context.Context, name string, flags, mode uint32,
	out *fuse.EntryOut) (*fs.Inode, fs.FileHandle, uint32, syscall.Errno) {
	if wrong := n.stick.before("create", name); wrong != 0 {
		return nil, nil, 0, wrong
	}
	name = n.spelled(name)
	fd, err := syscall.Open(filepath.Join(n.path(), name), int(flags&^syscall.O_APPEND)|syscall.O_CREAT, mode)
	if err != nil {
		return nil, nil, 0, fs.ToErrno(err)
	}
	c, wrong := n.child(ctx, name, out)
	return c, &stickFile{FileHandle: fs.NewLoopbackFile(fd), stick: n.stick, name: name}, 0, wrong
}

func (n *stickNode) Open(_ context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	if wrong := n.stick.before("open", n.name); wrong != 0 {
		return nil, 0, wrong
	}
	fd, err := syscall.Open(n.path(), int(flags&^syscall.O_APPEND), 0)
	if err != nil {
		return nil, 0, fs.ToErrno(err)
	}
	return &stickFile{FileHandle: fs.NewLoopbackFile(fd), stick: n.stick, name: n.name}, 0, 0
}

func (n *stickNode) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	return fs.NewLoopbackDirStream(n.path())
}

func (n *stickNode) Unlink(_ context.Context, name string) syscall.Errno {
	if wrong := n.stick.before("unlink", name); wrong != 0 {
		return wrong
	}
	return fs.ToErrno(syscall.Unlink(filepath.Join(n.path(), n.spelled(name))))
}

func (n *stickNode) Rmdir(_ context.Context, name string) syscall.Errno {
	return fs.ToErrno(syscall.Rmdir(filepath.Join(n.path(), n.spelled(name))))
}

func (n *stickNode) Rename(_ context.Context, name string, to fs.InodeEmbedder, newName string, flags uint32) syscall.Errno {
	if flags != 0 {
		return syscall.EINVAL
	}
	if wrong := n.stick.before("rename", newName); wrong != 0 {
		return wrong
	}
	name = n.spelled(name)
	there := to.(*stickNode)
	if old := there.spelled(newName); old != newName && (there != n || old != name) {
		newName = old
	}
	if err := os.Rename(filepath.Join(n.path(), name), filepath.Join(there.path(), newName)); err != nil {
		return fs.ToErrno(err)
	}
	if c := n.GetChild(name); c != nil {
		if known, ok := c.Operations().(*stickNode); ok {
			known.in, known.name = there, newName
		}
	}
	return 0
}

func (n *stickNode) Link(context.Context, fs.InodeEmbedder, string, *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	return nil, syscall.EPERM
}

func (n *stickNode) Symlink(context.Context, string, string, *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	return nil, syscall.EPERM
}

func (n *stickNode) Statfs(_ context.Context, out *fuse.StatfsOut) syscall.Errno {
	var s syscall.Statfs_t
	err := syscall.Statfs(n.path(), &s)
	out.FromStatfsT(&s)
	return fs.ToErrno(err)
}

// stickFile is an open file.
type stickFile struct {
	fs.FileHandle
	stick *stick
	name  string
}

func (f *stickFile) Read(ctx context.Context, dest []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	if wrong := f.stick.before("read", f.name); wrong != 0 {
		return nil, wrong
	}
	return f.FileHandle.(fs.FileReader).Read(ctx, dest, off)
}

func (f *stickFile) Write(ctx context.Context, data []byte, off int64) (uint32, syscall.Errno) {
	if wrong := f.stick.before("write", f.name); wrong != 0 {
		return 0, wrong
	}
	return f.FileHandle.(fs.FileWriter).Write(ctx, data, off)
}

func (f *stickFile) Fsync(ctx context.Context, flags uint32) syscall.Errno {
	if wrong := f.stick.before("sync", f.name); wrong != 0 {
		return wrong
	}
	return f.FileHandle.(fs.FileFsyncer).Fsync(ctx, flags)
}

func (f *stickFile) Flush(ctx context.Context) syscall.Errno {
	return f.FileHandle.(fs.FileFlusher).Flush(ctx)
}

func (f *stickFile) Release(ctx context.Context) syscall.Errno {
	return f.FileHandle.(fs.FileReleaser).Release(ctx)
}
