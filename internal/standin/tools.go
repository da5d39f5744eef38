package standin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"
)

// tools are the programs that every simulated system has.
var tools map[string]Tool

func init() { // a table that refers to functions that refer to it
	tools = map[string]Tool{
		"sh": toolSh, "sudo": toolSudo, "nice": toolNice, "nohup": toolNohup, "setsid": toolNohup,
		"stat": toolStat, "ls": toolLs, "find": toolFind, "dd": toolDd, "cat": toolCat, "readlink": toolReadlink,
		"date": toolDate, "df": toolDf, "mkdir": toolMkdir, "rm": toolRm, "mv": toolMv, "sleep": toolSleep,
		"sha256sum": toolSum, "uname": toolUname,
		"id": toolID, "head": toolHead, "tail": toolTail, "grep": toolGrep, "hostname": toolHostname, "kill": toolKill,
	}
}

// toolSh runs another shell: sh -c LINE.
func toolSh(c *Call) int {
	if len(c.Args) < 3 || c.Args[1] != "-c" {
		return c.fail(2, "only -c is known")
	}
	return c.Server.shell(c.Ctx, c.Args[2], c.Dir, c.In, c.Out, c.Err)
}

// inner runs the rest of the arguments as a command.
func (c *Call) inner(ctx context.Context, args []string) int {
	if len(args) == 0 {
		return c.fail(1, "no command")
	}
	call := *c
	call.Args, call.Ctx = args, ctx
	call.Root, _ = ctx.Value(rooted{}).(bool)
	return c.Server.tool(&call)
}

// toolSudo gives all rights where the system allows it: sudo -n COMMAND.
func toolSudo(c *Call) int {
	if c.Server.NoSudo {
		return c.fail(1, "a password is required")
	}
	if len(c.Args) < 3 || c.Args[1] != "-n" {
		return c.fail(1, "a terminal is required to read the password")
	}
	return c.inner(context.WithValue(c.Ctx, rooted{}, true), c.Args[2:])
}

func toolNice(c *Call) int {
	if len(c.Args) < 4 || c.Args[1] != "-n" {
		return c.fail(125, "usage")
	}
	return c.inner(c.Ctx, c.Args[3:])
}

// toolNohup keeps a command going when the connection ends.
func toolNohup(c *Call) int {
	ctx, end := c.Server.begin()
	defer end()
	return c.inner(context.WithValue(ctx, rooted{}, c.Ctx.Value(rooted{}) == true), c.Args[1:])
}

func unixMode(m fs.FileMode) uint32 {
	n := uint32(m.Perm())
	switch {
	case m.IsDir():
		n |= 0o040000
	case m&fs.ModeSymlink != 0:
		n |= 0o120000
	case m&fs.ModeNamedPipe != 0:
		n |= 0o010000
	case m&fs.ModeDevice != 0:
		n |= 0o060000
	default:
		n |= 0o100000
	}
	return n
}

func (c *Call) look(p string, follow bool) (nodeInfo, error) {
	if p == "/dev/stdin" && c.opened != nil {
		return nodeInfo{"stdin", c.opened}, nil
	}
	p = c.path(p)
	n, err := c.Server.Tree.node(p)
	if follow {
		_, n, err = c.Server.Tree.follow(p)
	}
	if err != nil {
		return nodeInfo{}, err
	}
	return nodeInfo{path.Base(p), n}, nil
}

// inode is a number that stays with a node.
func inode(n *Node) string { return strings.TrimPrefix(fmt.Sprintf("%p", n), "0xc") }

func formatStat(format string, i nodeInfo, name string) string {
	return strings.NewReplacer("%f", strconv.FormatUint(uint64(unixMode(i.Mode())), 16), "%s", strconv.FormatInt(i.Size(), 10),
		"%Y", strconv.FormatInt(i.ModTime().Unix(), 10), "%d", "1", "%i", inode(i.n), "%n", name).Replace(format) + "\n"
}

// toolStat knows stat [-L] -c FORMAT FILE...
func toolStat(c *Call) int {
	args, follow := c.Args[1:], false
	if len(args) > 0 && args[0] == "-L" {
		args, follow = args[1:], true
	}
	if len(args) < 3 || args[0] != "-c" {
		return c.fail(1, "unrecognized option")
	}
	exit := 0
	for _, p := range args[2:] {
		i, err := c.look(p, follow)
		if err != nil {
			exit = c.fail(1, "cannot stat '%s': %s", p, whyNot(err))
			continue
		}
		_, _ = io.WriteString(c.Out, formatStat(args[1], i, p))
	}
	return exit
}

// toolLs knows ls -ld and ls -ldn.
func toolLs(c *Call) int {
	exit := 0
	for _, p := range c.Args[1:] {
		if strings.HasPrefix(p, "-") {
			continue
		}
		i, err := c.look(p, strings.Contains(c.Args[1], "L"))
		if err != nil {
			exit = c.fail(2, "cannot access '%s': %s", p, whyNot(err))
			continue
		}
		letters := i.Mode().String()
		if i.Mode()&fs.ModeSymlink != 0 {
			letters = "l" + letters[1:]
		}
		fmt.Fprintf(c.Out, "%s 1 0 0 %d %s %s\n", letters, i.Size(), i.ModTime().Format("Jan _2 15:04"), p)
	}
	return exit
}

// toolFind lists a folder: find . ! -name . -prune -exec stat -c FORMAT {} +
func toolFind(c *Call) int {
	if len(c.Args) < 12 || c.Args[1] != "." || c.Args[7] != "stat" {
		return c.fail(1, "this find knows one form only")
	}
	for _, i := range c.Server.Tree.children(c.Dir) {
		_, _ = io.WriteString(c.Out, formatStat(c.Args[9], i, "./"+i.name))
	}
	return 0
}

func (c *Call) read(p string) ([]byte, error) {
	_, n, err := c.Server.Tree.follow(c.path(p))
	switch {
	case err != nil:
		return nil, err
	case n.Denied && !c.Root:
		return nil, fs.ErrPermission
	case n.Mode != 0:
		return nil, fs.ErrInvalid
	}
	return n.Data, nil
}

// toolDd knows if=, bs=, skip= and count=.
func toolDd(c *Call) int {
	file, n := "", map[string]int64{"bs": 512, "skip": 0, "count": 1 << 40}
	for _, a := range c.Args[1:] {
		k, v, _ := strings.Cut(a, "=")
		if k == "if" {
			file = v
			continue
		}
		number, err := strconv.ParseInt(v, 10, 64)
		if err != nil {
			return c.fail(1, "invalid number %s", v)
		}
		n[k] = number
	}
	var data []byte
	var err error
	if file == "" {
		data, err = io.ReadAll(c.In)
	} else {
		data, err = c.read(file)
	}
	if err != nil {
		return c.fail(1, "failed to open '%s': %s", file, whyNot(err))
	}
	from := min(int64(len(data)), n["skip"]*n["bs"])
	to := min(int64(len(data)), from+min(n["count"], 1<<30)*n["bs"])
	if _, err := c.Out.Write(data[from:to]); err != nil {
		return 1
	}
	fmt.Fprintf(c.Err, "%d bytes copied\n", to-from)
	return 0
}

func toolCat(c *Call) int {
	exit := 0
	for _, p := range c.Args[1:] {
		data, err := c.read(p)
		if err != nil {
			exit = c.fail(1, "%s: %s", p, whyNot(err))
			continue
		}
		_, _ = c.Out.Write(data)
	}
	return exit
}

func toolReadlink(c *Call) int {
	target, err := c.Server.Tree.Readlink(c.path(c.Args[len(c.Args)-1]))
	if err != nil {
		return 1
	}
	fmt.Fprintln(c.Out, target)
	return 0
}

// toolDate knows date -u +%s.%N, date +%s and date -r FILE +%s.
func toolDate(c *Call) int {
	ahead, none := c.Server.clock()
	if none {
		return c.fail(127, "not found")
	}
	now := time.Now().Add(ahead)
	if len(c.Args) > 2 && c.Args[1] == "-r" {
		i, err := c.look(c.Args[2], true)
		if err != nil {
			return c.fail(1, "%s: %s", c.Args[2], whyNot(err))
		}
		now = i.ModTime()
	}
	switch c.Args[len(c.Args)-1] {
	case "+%s.%N":
		fmt.Fprintf(c.Out, "%d.%09d\n", now.Unix(), now.Nanosecond())
	case "+%s":
		fmt.Fprintln(c.Out, now.Unix())
	default:
		fmt.Fprintln(c.Out, now.UTC().Format(time.UnixDate))
	}
	return 0
}

// toolDf tells about the space that the system says it has.
func toolDf(c *Call) int {
	free := c.Server.Free
	if free == 0 {
		free = 8 << 30
	}
	fmt.Fprintf(c.Out, "Filesystem 1024-blocks Used Available Capacity Mounted on\n/dev/mmcblk0p3 %d %d %d 41%% /\n",
		free>>9, free>>10, free>>10)
	return 0
}

func toolMkdir(c *Call) int {
	for _, p := range c.Args[1:] {
		if strings.HasPrefix(p, "-") || p == "700" {
			continue
		}
		p = c.path(p)
		if _, err := c.Server.Tree.node(p); err == nil {
			return c.fail(1, "cannot create directory '%s': File exists", p)
		}
		if !writable(p) && !c.Root {
			return c.fail(1, "cannot create directory '%s': Permission denied", p)
		}
		c.Server.Tree.Put(p, &Node{Mode: fs.ModeDir, Time: time.Now()})
	}
	return 0
}

func toolRm(c *Call) int {
	for _, p := range c.Args[1:] {
		if strings.HasPrefix(p, "-") {
			continue
		}
		p = c.path(p)
		if !writable(p) && !c.Root {
			return c.fail(1, "cannot remove '%s': Permission denied", p)
		}
		c.Server.Tree.Remove(p)
	}
	return 0
}

func toolMv(c *Call) int {
	if len(c.Args) < 3 {
		return c.fail(1, "missing operand")
	}
	from, to := c.path(c.Args[len(c.Args)-2]), c.path(c.Args[len(c.Args)-1])
	n, err := c.Server.Tree.node(from)
	if err != nil {
		return c.fail(1, "cannot stat '%s': %s", from, whyNot(err))
	}
	c.Server.Tree.Put(to, n)
	c.Server.Tree.Remove(from)
	return 0
}

func toolSleep(c *Call) int {
	seconds, _ := strconv.ParseFloat(c.Args[len(c.Args)-1], 64)
	select {
	case <-time.After(time.Duration(seconds * float64(time.Second))):
		return 0
	case <-c.Ctx.Done():
		return 137
	}
}

func toolSum(c *Call) int {
	for _, p := range c.Args[1:] {
		data, err := c.read(p)
		if err != nil {
			return c.fail(1, "%s: %s", p, whyNot(err))
		}
		sum := sha256.Sum256(data)
		fmt.Fprintf(c.Out, "%s  %s\n", hex.EncodeToString(sum[:]), p)
	}
	return 0
}

func toolUname(c *Call) int {
	fmt.Fprintln(c.Out, "Linux 6.1.0-pier armv7l")
	return 0
}

func toolID(c *Call) int {
	if c.Root {
		fmt.Fprintln(c.Out, "uid=0(root) gid=0(root) groups=0(root)")
	} else {
		fmt.Fprintf(c.Out, "uid=1001(%s) gid=1001(%s) groups=1001(%s)\n", c.Server.User, c.Server.User, c.Server.User)
	}
	return 0
}

func toolHead(c *Call) int {
	in := c.In
	if n, err := strconv.ParseInt(c.Args[len(c.Args)-1], 10, 64); err == nil && len(c.Args) == 3 && c.Args[1] == "-c" {
		in = io.LimitReader(in, n)
	}
	_, err := io.Copy(c.Out, in)
	if err != nil {
		return 1
	}
	return 0
}

// toolTail gives what stands behind an offset of its standard input (tail -c +N), or a whole file: what it is asked for is short.
func toolTail(c *Call) int {
	if from, ok := strings.CutPrefix(c.Args[len(c.Args)-1], "+"); ok {
		n, _ := strconv.ParseInt(from, 10, 64)
		if _, err := io.CopyN(io.Discard, c.In, n-1); err != nil && err != io.EOF {
			return 1
		}
		if _, err := io.Copy(c.Out, c.In); err != nil {
			return 1
		}
		return 0
	}
	data, err := c.read(c.Args[len(c.Args)-1])
	if err != nil {
		return c.fail(1, "cannot open '%s': %s", c.Args[len(c.Args)-1], whyNot(err))
	}
	_, _ = c.Out.Write(data)
	return 0
}

// toolGrep counts lines that begin with a text: grep -c '^TEXT' FILE
func toolGrep(c *Call) int {
	if len(c.Args) != 4 || c.Args[1] != "-c" {
		return c.fail(2, "this grep knows one form only")
	}
	data, err := c.read(c.Args[3])
	if err != nil {
		return c.fail(2, "%s: %s", c.Args[3], whyNot(err))
	}
	n := strings.Count("\n"+string(data), "\n"+strings.TrimPrefix(c.Args[2], "^"))
	fmt.Fprintln(c.Out, n)
	if n == 0 {
		return 1
	}
	return 0
}

func toolHostname(c *Call) int {
	fmt.Fprintln(c.Out, c.Server.Name)
	return 0
}

// toolKill says whether something still runs in the background (kill -0), and ends all of it otherwise.
func toolKill(c *Call) int {
	if len(c.Args) > 1 && c.Args[1] == "-0" {
		if c.Server.background.Load() > 0 {
			return 0
		}
		return c.fail(1, "No such process")
	}
	c.Server.endBackground()
	return 0
}
