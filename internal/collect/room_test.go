package collect

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/round"
)

// answering answers every command the same way.
type answering struct {
	out, err string
	exit     int
}

func (a answering) Run(_ context.Context, _ string, stdout, stderr io.Writer) (int, error) {
	_, _ = io.WriteString(stdout, a.out)
	_, _ = io.WriteString(stderr, a.err)
	return a.exit, nil
}

// Where a folder of ours can be made, and how much is free there, in the forms in which systems tell it.
func TestWhereThereIsRoom(t *testing.T) {
	for name, c := range map[string]struct {
		run  answering
		dir  string
		free int64
		err  string
	}{
		"usual":          {answering{out: "in /var/tmp\nFilesystem 1024-blocks Used Available Capacity Mounted on\n/dev/sda1 102400 2400 100000 3% /var\n"}, "/var/tmp", 100000 << 10, ""},
		"a long name":    {answering{out: "in /tmp\nFilesystem 1K-blocks Used Available Use% Mounted on\n/dev/mapper/pier-root with space 102400 102400 0 100% /\n"}, "/tmp", 0, ""},
		"df says little": {answering{out: "in /tmp\ndf: not supported\n"}, "/tmp", 1 << 62, ""},
		"nowhere":        {answering{err: "neither /var/tmp nor /tmp can be written to\n", exit: 1}, "", 0, "neither /var/tmp nor /tmp can be written to"},
		"nonsense":       {answering{out: "welcome\n"}, "", 0, "does not tell where a folder can be made"},
		"a hostile path": {answering{out: "in relative/path\n"}, "", 0, "does not tell where"},
	} {
		dir, free, err := baseFolder(context.Background(), c.run)
		if c.err != "" {
			require.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		require.Equal(t, c.dir, dir, name)
		require.Equal(t, c.free, free, name)
	}
}

func TestGroupsAreCheckedBySystem(t *testing.T) {
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems: [{id: a, run: x}, {id: b, run: x}, {id: c, run: x}]\ngroups: [{name: g, items: [a, b], why: because}]\n"))
	require.NoError(t, err)
	none := func(func(round.Entry) error) error { return nil }
	got, err := round.CheckGroups(k, round.Coverage{
		{System: "one", Item: "a", State: round.Taken}, {System: "one", Item: "b", State: round.Cut}, {System: "one", Item: "c", State: round.Failed},
		{System: "two", Item: "a", State: round.Taken}, {System: "two", Item: "b", State: round.Empty},
		{System: "three", Item: "a", State: round.Denied}, {System: "three", Item: "b", State: round.TimedOut},
		{System: "four", Item: "a", State: round.Skipped, Code: round.CodeNotChosen},
		{System: "", Item: "b", State: round.Missing},
	}, none)
	require.NoError(t, err)
	require.Equal(t, []round.GroupResult{{Name: "g", Why: "because", Items: []string{"a", "b"}, Whole: []string{"one"}, Lacking: []string{"two lacks b", "three lacks a, b"}}}, got)
	got, err = round.CheckGroups(k, round.Coverage{{System: "one", Item: "a", State: round.Taken}, {System: "one", Item: "b", State: round.Taken}}, func(each func(round.Entry) error) error {
		return each(round.Entry{System: "one", Item: "b", Source: "/var/log/pass.idx", State: round.Missing})
	})
	require.NoError(t, err)
	require.Equal(t, []string{"one lacks b (/var/log/pass.idx: missing)"}, got[0].Lacking)
	got, err = round.CheckGroups(&ask.Ask{}, nil, none)
	require.NoError(t, err)
	require.Empty(t, got)
}
