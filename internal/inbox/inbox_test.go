package inbox

import (
	"bytes"
	"context"
	"envask/internal/standin"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/stretchr/testify/require"
)

// box is a store with one account.
type box struct {
	*Store
	mu      sync.Mutex
	came    []Arrival
	remarks []string
	at      map[string]string
}

func newBox(t *testing.T, limits Limits, from ...netip.Addr) *box {
	t.Helper()
	b := &box{}
	b.Store = &Store{Dir: t.TempDir(), Limits: limits, SafeName: func(s string) string { return strings.ReplaceAll(s, "\x1b", "%1b") },
		Arrived: func(a Arrival) { b.mu.Lock(); b.came = append(b.came, a); b.mu.Unlock() },
		Remark:  func(s string) { b.mu.Lock(); b.remarks = append(b.remarks, s); b.mu.Unlock() }}
	b.Accounts = []*Account{NewAccount("annex", "dump", from)}
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	var err error
	b.at, err = Start(ctx, b.Store, "127.0.0.1", Protocols(), func(string) int { return 0 })
	require.NoError(t, err)
	return b
}

func (b *box) arrivals() []Arrival {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Arrival(nil), b.came...)
}

func (b *box) said() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.remarks, "\n")
}

// nothingLeft makes sure that what was not taken is gone.
func (b *box) nothingLeft(t *testing.T) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(b.Dir, "*", "*"))
	require.NoError(t, err)
	require.Len(t, found, len(b.arrivals()))
}

var wide = Limits{Bytes: 1 << 20, Files: 100}

func TestTFTP(t *testing.T) {
	b := newBox(t, Limits{Bytes: 64 << 20, Files: 100}, netip.MustParseAddr("127.0.0.1"))
	name := b.Accounts[0].Name
	for _, size := range []int{0, 1, 511, 512, 513, 5000} {
		data := bytes.Repeat([]byte("x"), size)
		require.NoError(t, standin.PushTFTP(b.at["tftp"], name, data, "", false), size)
		list := b.arrivals()
		got, err := os.ReadFile(list[len(list)-1].File)
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got), size)
	}
	long := bytes.Repeat([]byte("0123456789abcdef"), 40_000) // 80,000 blocks of 8 bytes: the numbers roll over
	require.NoError(t, standin.PushTFTP(b.at["tftp"], "/"+name, long, fmt.Sprintf("blksize\x008\x00tsize\x00%d\x00nonsense\x001\x00",
		len(long)), false))
	list := b.arrivals()
	got, err := os.ReadFile(list[len(list)-1].File)
	require.NoError(t, err)
	require.True(t, bytes.Equal(long, got))
	require.ErrorContains(t, standin.PushTFTP(b.at["tftp"], "guessed", nil, "", false), "refused")
	require.ErrorContains(t, standin.PushTFTP(b.at["tftp"], name, nil, "tsize\x0099999999999\x00", false), "larger than allowed")
	conn, err := net.Dial("udp", b.at["tftp"])
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte("\x00\x01" + name + "\x00octet\x00"))
	require.NoError(t, err)
	buf := make([]byte, 100)
	_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	n, err := conn.Read(buf)
	require.NoError(t, err)
	require.Contains(t, string(buf[:n]), "nothing is read back")
	b.nothingLeft(t)
}

func TestTFTPFromAnotherAddress(t *testing.T) {
	b := newBox(t, wide, netip.MustParseAddr("192.0.2.9"))
	require.ErrorContains(t, standin.PushTFTP(b.at["tftp"], b.Accounts[0].Name, []byte("x"), "", false), "refused")
	require.Empty(t, b.arrivals())
}

func TestFTPOnlyTakes(t *testing.T) {
	b := newBox(t, Limits{Bytes: 1000, Files: 3})
	a := b.Accounts[0]
	c, err := ftp.Dial(b.at["ftp"])
	require.NoError(t, err)
	require.NoError(t, c.Login(a.User, a.Password))
	require.NoError(t, c.Stor("../../x\x1b.txt", strings.NewReader("whole")))
	require.Equal(t, "x%1b.txt", b.arrivals()[0].Name)
	require.True(t, b.arrivals()[0].Renamed)
	require.Error(t, c.Stor("large", bytes.NewReader(make([]byte, 2000))))
	_, err = c.Retr("x.txt")
	require.Error(t, err)
	_, err = c.List("/")
	require.Error(t, err)
	require.Error(t, c.Delete("x.txt"))
	require.Contains(t, b.said(), "it tried to list or read")
	require.NoError(t, c.Stor("second", strings.NewReader("2")))
	require.NoError(t, c.Stor("third", strings.NewReader("3")))
	require.Error(t, c.Stor("fourth", strings.NewReader("4")), "more files than allowed")
	b.nothingLeft(t)
}

func TestFTPConnectsNowhereElse(t *testing.T) {
	b := newBox(t, wide)
	a := b.Accounts[0]
	c, err := textproto.Dial("tcp", b.at["ftp"])
	require.NoError(t, err)
	defer c.Close()
	say := func(line string) string {
		require.NoError(t, c.PrintfLine("%s", line))
		text, err := c.ReadLine()
		require.NoError(t, err)
		return text
	}
	_, err = c.ReadLine()
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(say("STOR x"), "530"), "not before a login")
	say("USER " + a.User)
	require.True(t, strings.HasPrefix(say("PASS "+a.Password), "230"))
	for _, bounce := range []string{"PORT 192,0,2,1,10,10", "PORT 127,0,0,1,0,22", "EPRT |1|192.0.2.1|5000|",
		"EPRT |1|127.0.0.1|22|", "PORT x"} {
		require.True(t, strings.HasPrefix(say(bounce), "504"), bounce)
	}
	require.Contains(t, b.said(), "a data connection to another host was refused")
	require.True(t, strings.HasPrefix(say("RNFR x"), "502"))
}

func TestThreeWrongPasswordsCloseIt(t *testing.T) {
	b := newBox(t, wide)
	a := b.Accounts[0]
	from := httpAddr("127.0.0.1:1")
	for range wrongLogins {
		_, err := b.Login(a.User, "wrong", from)
		require.ErrorIs(t, err, ErrRefused)
	}
	_, err := b.Login(a.User, a.Password, from)
	require.ErrorIs(t, err, ErrRefused)
	require.Contains(t, b.said(), "three wrong passwords")
}

func TestWhatIsNotWholeIsDropped(t *testing.T) {
	b := newBox(t, wide)
	in, err := b.Begin(b.Accounts[0], "x", "test", httpAddr("127.0.0.1:1"))
	require.NoError(t, err)
	_, err = in.WriteAt([]byte("tail"), 4)
	require.NoError(t, err)
	_, err = in.WriteAt([]byte("head"), 0)
	require.NoError(t, err)
	require.NoError(t, in.Commit())
	got, err := os.ReadFile(b.arrivals()[0].File)
	require.NoError(t, err)
	require.Equal(t, "headtail", string(got))
	in, err = b.Begin(b.Accounts[0], "y", "test", httpAddr("127.0.0.1:1"))
	require.NoError(t, err)
	in.Abort("the link broke")
	require.NoError(t, in.Commit(), "it is over already")
	require.Len(t, b.arrivals(), 1)
	require.Contains(t, b.said(), `"y" did not come as a whole (the link broke)`)
	b.nothingLeft(t)
}

func TestSixteenPushAtOnce(t *testing.T) {
	b := newBox(t, Limits{Bytes: 8 << 20, Files: 100})
	a := b.Accounts[0]
	var wg sync.WaitGroup
	for i := range 16 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			data := bytes.Repeat([]byte{byte(i)}, 300_000)
			if i%2 == 0 {
				if err := standin.PushTFTP(b.at["tftp"], a.Name, data, "blksize\x001400\x00", true); err != nil {
					t.Error(i, err)
				}
				return
			}
			c, err := ftp.Dial(b.at["ftp"])
			if err == nil {
				if err = c.Login(a.User, a.Password); err == nil {
					err = c.Stor(fmt.Sprint(i), bytes.NewReader(data))
				}
			}
			if err != nil {
				t.Error(i, err)
			}
		}()
	}
	wg.Wait()
	require.Len(t, b.arrivals(), 16)
	for _, x := range b.arrivals() {
		f, err := os.Open(x.File)
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, f)
		require.NoError(t, err)
		f.Close()
		require.Equal(t, int64(300_000), n)
	}
}

func TestNetASCII(t *testing.T) {
	f := &fromNetASCII{}
	got := append(f.plain([]byte("a\r\nb\r")), f.plain([]byte("\nc\r\x00d\rx"))...)
	require.Equal(t, "a\nb\nc\rd\rx", string(got))
}

func FuzzTFTPRequest(f *testing.F) {
	f.Add([]byte("\x00\x02name\x00octet\x00blksize\x001400\x00tsize\x0010\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) < 4 {
			return
		}
		w, err := readTFTP(b)
		if err == nil && (w.block < 8 || w.block > tftpMaxBlock || w.wait <= 0 || w.name == "") {
			t.Fatalf("%+v", w)
		}
	})
}

func FuzzFTPCommands(f *testing.F) {
	f.Add("EPRT |1|127.0.0.1|5000|")
	f.Add("PORT 1,2,3,4,5,6")
	f.Fuzz(func(t *testing.T, line string) {
		a, b := net.Pipe()
		defer a.Close()
		defer b.Close()
		go func() { _, _ = io.Copy(io.Discard, b) }()
		s := &Store{Dir: t.TempDir(), Limits: wide, SafeName: func(s string) string { return "x" }, Arrived: func(Arrival) {}}
		session := &ftpSession{store: s, conn: a, text: textproto.NewConn(a), account: &Account{}}
		word, arg, _ := strings.Cut(line, " ")
		if word = strings.ToUpper(word); word != "STOR" && word != "STOU" && word != "PASV" && word != "EPSV" && word != "PASS" {
			_ = session.command(word, arg)
		}
	})
}
