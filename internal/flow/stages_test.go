package flow

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/seal"
	"envask/internal/site"
	"envask/internal/submit"
)

// packWith packs as asked.
func (d *desk) packWith(t *testing.T, q PackRequest) *Packed {
	t.Helper()
	p, err := d.app.Pack(context.Background(), d.c, q)
	require.NoError(t, err)
	return p
}

// refused is the error of a pack that must not be.
func (d *desk) refused(t *testing.T, q PackRequest) error {
	t.Helper()
	_, err := d.app.Pack(context.Background(), d.c, q)
	require.Error(t, err)
	left, readErr := os.ReadDir(d.c.OutDir())
	require.NoError(t, readErr)
	for _, x := range left {
		require.NotContains(t, x.Name(), unfinished)
	}
	return err
}

func (d *desk) send(t *testing.T, p *Packed) []*submit.Receipt {
	t.Helper()
	receipts, err := d.app.Submit(context.Background(), d.c, SubmitRequest{Archive: p.Archive, Routes: []string{"stick"},
		Confirm: yes, Incomplete: true})
	require.NoError(t, err)
	return receipts
}

// inside gives the files of an archive below its top folder.
func inside(t *testing.T, file string) map[string]string {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	files := map[string]string{}
	for tr := tar.NewReader(z); ; {
		h, err := tr.Next()
		if err == io.EOF {
			return files
		}
		require.NoError(t, err)
		text, err := io.ReadAll(tr)
		require.NoError(t, err)
		_, name, _ := strings.Cut(h.Name, "/")
		files[name] = string(text)
	}
}

// told gives the manifest of an archive.
func told(t *testing.T, file string) (m archive.Manifest) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(inside(t, file)[archive.ManifestName]), &m))
	return m
}

func (d *desk) at(name string) string { return "systems/pc/files" + d.dir + "/log/" + name }

// Of several rounds the newest form of a file stands in its place, an earlier one beside it, and what is the same once.
func TestSeveralRoundsInOneArchive(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/same.log", "nothing new\n")
	d.write(t, "log/old.log", "as it was\n")
	d.collect(t)
	d.write(t, "log/old.log", "as it is\n")
	d.write(t, "log/new.log", "came up\n")
	d.collect(t)
	p := d.packWith(t, PackRequest{Rounds: []string{"r2", "r1"}})
	files := inside(t, p.Archive)
	require.Equal(t, "as it is\n", files[d.at("old.log")])
	require.Equal(t, "as it was\n", files["earlier/r1/"+d.at("old.log")])
	require.Equal(t, "nothing new\n", files[d.at("same.log")])
	require.NotContains(t, files, "earlier/r1/"+d.at("same.log"))
	m := told(t, p.Archive)
	var paths, left []string
	for _, f := range m.Files {
		paths = append(paths, f.Path)
		if f.Path == d.at("old.log") {
			require.Equal(t, "r2", f.Round)
		}
	}
	for _, l := range m.LeftOut {
		left = append(left, l.Source+": "+l.Reason)
	}
	require.Equal(t, len(paths), len(slices.Compact(slices.Clone(paths))))
	require.Contains(t, left, d.dir+"/log/same.log: the same bytes as of round r2")
	require.True(t, slices.IsSorted(left))
	require.Equal(t, p.SHA256, d.packWith(t, PackRequest{Rounds: []string{"r1", "r2"}}).SHA256, "the order of the words does not matter")

	sums := strings.Split(strings.TrimSpace(files[archive.SumsName]), "\n")
	require.Len(t, sums, len(files)-1)
	require.True(t, slices.IsSortedFunc(sums, func(a, b string) int { return strings.Compare(a[66:], b[66:]) }))
}

// What the vendor has stays out of the next archive, file by file; what never went goes, though it did not change.
func TestNewSinceGoesByWhatWasSent(t *testing.T) {
	d := newDesk(t)
	d.write(t, "ask.yaml", strings.ReplaceAll(`ask: a
vendor: Ostrevane Gate Systems
items:
  - {id: log, files: ['DIR/log/*'], cut: none}
  - {id: dump, files: ['DIR/dump/*'], cut: none}
routes: [{name: stick, to: 'DIR/stick'}]
`, "DIR", d.dir))
	k, err := LoadAsk(filepath.Join(d.dir, "ask.yaml"))
	require.NoError(t, err)
	require.NoError(t, d.app.PutApproval(k))
	d.write(t, "dump/core", "of the agent\n")
	d.collect(t)
	require.ErrorContains(t, d.refused(t, PackRequest{NewSince: "r1"}), "not older than what is packed")
	first := d.packWith(t, PackRequest{Without: []string{"dump"}})
	d.collect(t)
	require.ErrorContains(t, d.refused(t, PackRequest{NewSince: "r1"}), "no archive of this round was sent")
	d.send(t, first)
	d.write(t, "log/gate.log", "2026-03-14T06:13:00Z another\n")
	d.write(t, "log/more.log", "nothing\n")
	d.collect(t)
	second := d.packWith(t, PackRequest{NewSince: "r1", Rounds: []string{"r3"}})
	files := inside(t, second.Archive)
	require.Contains(t, files, d.at("gate.log"))
	require.Contains(t, files, d.at("more.log"))
	require.Contains(t, files, "systems/pc/files"+d.dir+"/dump/core", "it was left out of the one that was sent")
	d.send(t, second)
	d.collect(t)
	third := d.packWith(t, PackRequest{NewSince: "r3"})
	require.Equal(t, "r3", third.NewSince)
	files = inside(t, third.Archive)
	require.NotContains(t, files, d.at("gate.log"))
	m := told(t, third.Archive)
	require.Contains(t, m.LeftOut[0].Reason, "unchanged since round r3, of which the vendor has the archive")
	for _, c := range m.Coverage {
		if c.Item == "log" {
			require.Contains(t, c.Reason, "unchanged since round r3")
		}
	}
	require.ErrorContains(t, d.refused(t, PackRequest{NewSince: "r9"}), "there is no such round")
}

// opaque is content that no rule can read.
func opaque(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return string(b)
}

// What nobody can read stays behind, unless the engineer says otherwise; both is said, and counted.
func TestOpaqueFilesAndWhatIsLeftOut(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/core", opaque(9000))
	d.write(t, "log/screen.png", "\x89PNG\r\n\x1a\n"+opaque(500))
	d.collect(t)
	p := d.pack(t)
	require.Len(t, p.OpaqueOut, 2)
	require.Empty(t, p.OpaqueIn)
	require.Empty(t, p.Pictures)
	m := told(t, p.Archive)
	require.Len(t, m.LeftOut, 2)
	require.Equal(t, round.Refused, m.LeftOut[0].State)
	require.Equal(t, int64(9000), m.LeftOut[0].Size)
	require.Equal(t, codeOpaque, m.Coverage[0].Code)
	require.Equal(t, 1, m.Coverage[0].Files)

	p = d.packWith(t, PackRequest{Opaque: []string{"log"}})
	require.Len(t, p.OpaqueIn, 2)
	require.Len(t, p.Pictures, 1)
	require.Contains(t, inside(t, p.Archive), d.at("core"))

	p = d.packWith(t, PackRequest{Without: []string{"log"}})
	require.Equal(t, round.Skipped, told(t, p.Archive).Coverage[0].State)
	require.NotContains(t, inside(t, p.Archive), d.at("gate.log"))
	require.ErrorContains(t, d.refused(t, PackRequest{Without: []string{"logs"}}), "the ask names no such item; known: log")
	require.ErrorContains(t, d.refused(t, PackRequest{Opaque: []string{"dump"}}), "no such item")
	require.ErrorContains(t, d.refused(t, PackRequest{Format: "rar"}), "rar")
	require.ErrorContains(t, d.refused(t, PackRequest{Level: "tiny"}), "tiny")

	// Evidence that changed since it was taken is no evidence.
	raw := filepath.Join(d.c.RoundDir("r1"), "raw", "pc", "files", d.dir, "log", "gate.log")
	require.NoError(t, os.WriteFile(raw, []byte("2026-03-14T06:12:00Z another line, and no less of it than that\n"), 0o600))
	require.ErrorContains(t, d.refused(t, PackRequest{}), "it was changed since it was collected")
}

// An archive is signed, encrypted and cut into parts; each can be checked by itself, and nothing stays of a plain one.
func TestSignedEncryptedAndSplit(t *testing.T) {
	d := newDesk(t)
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	d.write(t, "key", string(pem.EncodeToMemory(block)))
	d.app.Dialer = func(s *site.Site, _ map[string]string) (*reach.Dialer, error) {
		return &reach.Dialer{Site: s, HostKeys: &reach.HostKeys{}, HomeDir: d.dir}, nil
	}
	d.write(t, "log/long.log", opaqueText(40000))
	d.collect(t)
	p := d.packWith(t, PackRequest{SignWith: filepath.Join(d.dir, "key")})
	files := inside(t, p.Archive)
	who, err := seal.CheckSignature(files[archive.SignatureName], []byte(files[archive.ManifestName]))
	require.NoError(t, err)
	require.Equal(t, told(t, p.Archive).SignedBy, who)
	require.ErrorContains(t, d.refused(t, PackRequest{SignWith: filepath.Join(d.dir, "nowhere")}), "nowhere")

	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	p = d.packWith(t, PackRequest{EncryptTo: []string{id.Recipient().String()}, Split: 4000})
	require.True(t, strings.HasSuffix(p.Archive, plainEnding))
	require.Greater(t, len(p.Parts), 3)
	require.FileExists(t, p.JoinPage)
	in, err := os.Open(p.Sealed.File)
	require.NoError(t, err)
	defer in.Close()
	open, err := age.Decrypt(in, id)
	require.NoError(t, err)
	got, err := io.ReadAll(open)
	require.NoError(t, err)
	want, err := os.ReadFile(p.Archive)
	require.NoError(t, err)
	require.Equal(t, want, got)
	require.True(t, d.packWith(t, PackRequest{EncryptTo: []string{id.Recipient().String()}}).Sealed.Same,
		"what is encrypted for the same stays")
	require.ErrorContains(t, d.refused(t, PackRequest{EncryptTo: []string{"nobody"}}), "nobody")
	require.ErrorContains(t, d.refused(t, PackRequest{EncryptTo: []string{id.Recipient().String()},
		Passphrase: func() (string, error) { return "a long and quiet pier", nil }}), "not both")
}

// opaqueText is text that does not become small.
func opaqueText(n int) string {
	const signs = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-+"
	b := []byte(opaque(n))
	for i := range b {
		if b[i] = signs[b[i]%64]; i%70 == 69 {
			b[i] = '\n'
		}
	}
	return string(b)
}

// Tidy takes only what is proved to be with the vendor; the rest goes on the engineer's word, and what a round took stays known.
func TestTidyRemovesWhatArrived(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/core", opaque(9000))
	d.collect(t)
	list := func(q TidyRequest) (goes, stays []string) {
		all, err := d.app.Discards(d.c, q)
		require.NoError(t, err)
		for _, x := range all {
			if x.Goes {
				goes = append(goes, x.What+x.Round+x.Name+": "+x.Why)
			} else {
				stays = append(stays, x.What+x.Round+x.Name+": "+x.Why)
			}
		}
		return goes, stays
	}
	goes, stays := list(TidyRequest{})
	require.Empty(t, goes)
	require.Contains(t, stays[0], "it was not sent; --unsent removes it")
	p := d.pack(t)
	require.True(t, d.send(t, p)[0].Proved)
	goes, stays = list(TidyRequest{})
	require.Equal(t, []string{"raw evidencer1: sent over stick; what the archive does not hold stays"}, goes)
	require.Contains(t, strings.Join(stays, "\n"), "not in any archive that was sent (log: 1); --unsent removes it")
	require.Contains(t, strings.Join(stays, "\n"), "archives are kept")

	all, err := d.app.Discards(d.c, TidyRequest{})
	require.NoError(t, err)
	_, err = d.app.RemoveDiscards(context.Background(), d.c, all)
	require.NoError(t, err)
	raw := filepath.Join(d.c.RoundDir("r1"), "raw", "pc", "files", d.dir, "log")
	require.NoFileExists(t, filepath.Join(raw, "gate.log"))
	require.FileExists(t, filepath.Join(raw, "core"))
	r, err := round.Load(d.c, "r1")
	require.NoError(t, err)
	require.False(t, r.Thinned.IsZero())
	files, err := d.app.RoundFiles(r, nil, nil, "")
	require.NoError(t, err)
	for _, f := range files {
		require.Equal(t, strings.HasSuffix(f.Source, "core"), f.Path != "" && !f.Gone, f.Source)
	}
	again := d.packWith(t, PackRequest{Rounds: []string{"r1"}, Opaque: []string{"log"}})
	m := told(t, again.Archive)
	require.Contains(t, m.LeftOut[0].Reason, "it was sent before, and tidy removed it here since")

	goes, _ = list(TidyRequest{Unsent: true})
	require.Contains(t, strings.Join(goes, "\n"), "raw evidencer1")
	all, err = d.app.Discards(d.c, TidyRequest{Unsent: true})
	require.NoError(t, err)
	_, err = d.app.RemoveDiscards(context.Background(), d.c, all)
	require.NoError(t, err)
	require.ErrorContains(t, d.refused(t, PackRequest{Rounds: []string{"r1"}}), "its raw evidence was removed by tidy")

	d.write(t, "home/tidy.yaml", "keep-raw: 30 days\nkeep-archives: 5 days\n")
	_, stays = list(TidyRequest{})
	require.Contains(t, strings.Join(stays, "\n"), "tidy.yaml keeps it 5 days")
	d.write(t, "home/tidy.yaml", "keep-raw: soon\n")
	_, err = d.app.Discards(d.c, TidyRequest{})
	require.ErrorContains(t, err, "expected a number of days")
}

// A case goes as a whole only when nothing of it is needed any more.
func TestRemoveCase(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	p := d.pack(t)
	no := func(string) (bool, error) { return false, nil }
	for want, q := range map[string]RemoveRequest{
		"not sent with proof: ": {Confirm: yes},
		"no terminal to ask":    {Unsent: true},
		"nothing was removed":   {Unsent: true, Confirm: no},
	} {
		require.ErrorContains(t, d.app.RemoveCase("26031407", q), want)
	}
	require.ErrorContains(t, d.app.RemoveCase("26031499", RemoveRequest{Confirm: yes}), "there is no such case")
	d.send(t, p)
	asked := ""
	require.NoError(t, d.app.RemoveCase("26031407", RemoveRequest{Confirm: func(q string) (bool, error) { asked = q; return true, nil }}))
	require.Contains(t, asked, "It does not come back")
	require.NoDirExists(t, d.c.Dir)
}

// A person looks at what is left, decides, and stands for the archive; what was decided holds from the next pack on.
func TestReviewDecidesAndApproves(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/odd.log", "lane opened with kQ8vXz2LmP9wRt4YbN7cQa today\n")
	d.collect(t)
	p := d.pack(t)
	v, err := d.app.Review(context.Background(), d.c, ReviewRequest{})
	require.NoError(t, err)
	require.Equal(t, p.SHA256, v.SHA256)
	require.Positive(t, v.Findings.Total())
	require.NotEmpty(t, v.Samples)
	require.Empty(t, v.ApprovedBy)
	require.NotEmpty(t, v.Suspects)
	require.NotContains(t, v.Suspects[0].Text, "kQ8vXz2L")
	unmasked, err := d.app.Review(context.Background(), d.c, ReviewRequest{Archive: p.Archive, Unmask: true})
	require.NoError(t, err)
	require.Contains(t, unmasked.Suspects[0].Text, "kQ8vXz2L")
	require.True(t, slices.ContainsFunc(unmasked.Samples, func(s ReviewSample) bool { return s.Original == "brass-Kelp-71!" }))
	require.ErrorContains(t, d.app.Decide(d.c, v, []int{99}, nil), "there is no value 99")
	require.NoError(t, d.app.Decide(d.c, v, []int{1}, nil))
	require.NoError(t, d.app.ApproveArchive(d.c, v))
	v, err = d.app.Review(context.Background(), d.c, ReviewRequest{})
	require.NoError(t, err)
	require.Equal(t, "m.quintela", v.ApprovedBy)
	require.NotContains(t, inside(t, d.pack(t).Archive)[d.at("odd.log")], "kQ8vXz2L")
	require.NoError(t, os.WriteFile(p.Archive, []byte("another"), 0o600))
	_, err = d.app.Review(context.Background(), d.c, ReviewRequest{Archive: p.Archive})
	require.Error(t, err)
}

// Receipts are asked about again, by what lies there now.
func TestReceiptsAreConfirmed(t *testing.T) {
	d := newDesk(t)
	_, err := d.app.ConfirmReceipts(context.Background(), d.c, SubmitRequest{})
	require.ErrorContains(t, err, "there is no receipt of that kind")
	d.collect(t)
	p := d.pack(t)
	rec := d.send(t, p)[0]
	list, err := d.app.ConfirmReceipts(context.Background(), d.c, SubmitRequest{})
	require.NoError(t, err)
	require.True(t, list[0].Proved)
	there := filepath.Join(d.dir, "stick", rec.Name)
	data, err := os.ReadFile(there)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(there, data, 0o600))
	list, err = d.app.ConfirmReceipts(context.Background(), d.c, SubmitRequest{Routes: []string{"stick"}})
	require.NoError(t, err)
	require.False(t, list[0].Proved)
	require.NoError(t, os.Remove(there))
	list, err = d.app.ConfirmReceipts(context.Background(), d.c, SubmitRequest{Archive: p.Archive})
	require.NoError(t, err)
	require.False(t, list[0].Proved)
	require.NotEmpty(t, list[0].Error)
}

// What is asked about beforehand changes nothing.
func TestLookingChangesNothing(t *testing.T) {
	d := newDesk(t)
	before, err := os.ReadDir(d.c.Dir)
	require.NoError(t, err)
	got, err := d.app.DryRun(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2})
	require.NoError(t, err)
	require.Nil(t, got.Round)
	require.True(t, slices.ContainsFunc(got.Entries, func(e round.Entry) bool { return e.Source == d.dir+"/log/gate.log" && e.Size > 0 }))
	probed, err := d.app.Probe(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2})
	require.NoError(t, err)
	require.NotEmpty(t, probed)
	after, err := os.ReadDir(d.c.Dir)
	require.NoError(t, err)
	require.Equal(t, len(before), len(after))
	rounds, err := round.List(d.c)
	require.NoError(t, err)
	require.Empty(t, rounds)
}

// Files are redacted by what a case knows; two inputs never take one name, and none leads out of the folder.
func TestRedactFilesOfACase(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	d.write(t, "a/one.txt", "brass-Kelp-71! again\n")
	d.write(t, "b/x.bin", opaque(3000))
	out := filepath.Join(d.dir, "clean")
	require.NoError(t, os.Mkdir(out, 0o700))
	res, err := d.app.Redact(context.Background(), RedactRequest{Case: d.c, Dir: out,
		Files: []string{filepath.Join(d.dir, "a/one.txt"), filepath.Join(d.dir, "b/x.bin")}})
	require.Equal(t, fault.Incomplete, fault.ClassOf(err))
	require.Len(t, res.Opaque, 1)
	text, err := os.ReadFile(filepath.Join(out, d.dir, "a/one.txt"))
	require.NoError(t, err)
	require.Equal(t, "[redacted:keyed-secret] again\n", string(text))
	require.NoFileExists(t, filepath.Join(out, d.dir, "b/x.bin"))
	_, err = d.app.Redact(context.Background(), RedactRequest{Dir: out, Files: []string{"../../etc/hostname"}})
	require.ErrorContains(t, err, "leads out of the folder")
	var b strings.Builder
	_, err = d.app.Redact(context.Background(), RedactRequest{In: strings.NewReader("password=tide-Lamp-9x\n"), Out: &b})
	require.NoError(t, err)
	require.Equal(t, "password=[redacted:keyed-secret]\n", b.String())
}
