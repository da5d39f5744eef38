package collect

import (
	"context"
	"fmt"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/reach"
	"envask/internal/round"
)

// needTimeout bounds looking for one thing that an item needs.
const needTimeout = 30 * time.Second

// needHead is how much of a file or an output is looked at, in bytes.
const needHead = 1 << 20

// unmet gives what of an item's needs does not hold, in words that say what to do.
func unmet(ctx context.Context, w *work) []string {
	var out []string
	for _, n := range w.item.Needs {
		if why := failing(ctx, w, n); why != "" && ctx.Err() == nil {
			text := "needs " + n.String() + ": " + why
			if n.Do != "" {
				text += "; " + n.Do
			}
			out = append(out, text)
		}
	}
	return out
}

// unmetReason says what does not hold in the reason of a cell. What files hold may do all the same; anything else is not taken.
func unmetReason(c *round.Cell, item *ask.Item) {
	switch {
	case len(c.Unmet) == 0:
	case item.Spec.Kind() == "files":
		c.Reason = round.Join(strings.Join(c.Unmet, "; "), c.Reason)
	default:
		c.State, c.Code, c.Reason = round.Missing, round.CodeNeeds, strings.Join(c.Unmet, "; ")
	}
}

// failing says why a need does not hold, or "".
func failing(ctx context.Context, w *work, n ask.Need) string {
	var text string
	switch {
	case n.File != "":
		data, err := readHead(w.target.FS(), reach.Name(w.at(n.File)), needHead)
		if err != nil {
			if notThere(err) {
				return "there is no such file"
			}
			return transfer.Plain(err)
		}
		text = string(data)
	default:
		if _, typed := w.target.(reach.Typist); typed && n.Command != "" {
			return "" // what a device knows is not looked up
		} else if typed {
			out, err := perform(ctx, w.target, device.Step{Type: n.Run, Timeout: needTimeout}, nil)
			if err != nil {
				return transfer.Plain(err)
			}
			text = out
			break
		}
		run, why := w.runner()
		if run == nil {
			return why
		}
		if n.Command != "" {
			if state, why := lookUp(ctx, run, n.Command); state != round.Taken {
				return why
			}
			return ""
		}
		ctx, cancel := context.WithTimeout(ctx, needTimeout)
		defer cancel()
		out := transfer.Head{Room: needHead}
		exit, err := run.Run(ctx, n.Run, &out, &out)
		switch {
		case err != nil:
			return transfer.Plain(err)
		case exit != 0:
			return fmt.Sprintf("it ended with exit code %d", exit)
		}
		text = out.String()
	}
	if n.Like == nil && n.Least == "" {
		return ""
	}
	return n.Judge(text)
}
