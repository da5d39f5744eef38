package reach

import (
	"context"
	"errors"

	"envask/internal/site"
)

// Pushed is a system that can do nothing but send to our inbox: there is nothing to reach.
type Pushed struct{ serving }

var _ System = (*Pushed)(nil)

var errPushesOnly = errors.New("this system can only send: run envask inbox")

func openPushes(context.Context, *Dialer, *site.System) (System, error) {
	p := &Pushed{}
	p.served = Served{Way: "pushes", Means: "nothing: it sends to the inbox"}
	return p, nil
}

// FS gives no files.
func (p *Pushed) FS() FS { return nothingFS{errPushesOnly} }

// Close does nothing.
func (p *Pushed) Close() error { return nil }
