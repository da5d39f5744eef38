package collect

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/stamp"
	"envask/internal/window"
)

// deviceFact asks a device for one of its facts.
func deviceFact(ctx context.Context, target reach.System, v device.Vital) (string, error) {
	text, err := perform(ctx, target, device.Step{Type: v.Type}, nil)
	if err != nil {
		return "", err
	}
	m := v.Like.FindStringSubmatch(text)
	if m == nil {
		return "", fmt.Errorf("the answer to %s is not like %s", v.Type, v.Like)
	}
	value := strings.TrimSpace(m[1])
	return strings.ToValidUTF8(value[:min(len(value), maxValue)], "?"), nil
}

// vital gives how a device tells a fact; nil when its description does not say.
func vital(d *device.Description, field string) *device.Vital {
	for i := range d.Vitals {
		if d.Vitals[i].Field == field {
			return &d.Vitals[i]
		}
	}
	return nil
}

// readDeviceClock finds out about a device's time, as its description tells.
func readDeviceClock(ctx context.Context, c *round.Clock, target reach.System, d *device.Description) {
	ctx, cancel := context.WithTimeout(ctx, vitalsTimeout)
	defer cancel()
	if v := vital(d, device.Zone); v != nil && c.ZoneFrom != zoneSystem {
		if name, err := deviceFact(ctx, target, *v); err == nil {
			if z, err := window.ParseZone(name); err == nil {
				c.Location, c.Zone, c.ZoneFrom = z, z.String(), zoneOwn
			}
		}
	}
	v := vital(d, device.Clock)
	if v == nil {
		c.How = "its description does not say how it tells the time"
		return
	}
	asked := time.Now()
	text, err := deviceFact(ctx, target, *v)
	half := time.Since(asked) / 2
	if err != nil {
		c.How = transfer.Plain(err)
		return
	}
	at, err := readTime(text, c.Location)
	if err != nil {
		c.How = err.Error()
		return
	}
	c.Measured, c.How = true, "as it tells the time"
	c.Offset = at.Sub(asked.Add(half)).Round(time.Millisecond)
	c.Uncertainty = (half + time.Second/2).Round(time.Millisecond)
	if at.Nanosecond() == 0 { // it shows seconds only
		c.Offset += time.Second / 2
		c.Uncertainty += time.Second / 2
	}
}

// neverSet is before which year a clock was never set.
const neverSet = 1990

// readTime reads a moment as a device writes it.
func readTime(text string, zone *time.Location) (time.Time, error) {
	line := []byte(text)
	p := stamp.Learn(stamp.Facts{Zone: zone}, true, line)
	at, ok := p.At().Time(line)
	if !ok {
		if strings.Contains(text, "1970") {
			return at, fmt.Errorf("it shows %q: its clock was never set", text)
		}
		return at, fmt.Errorf("it shows %q, which is no time that can be read", text)
	}
	if at.Year() < neverSet {
		return at, fmt.Errorf("it shows %q: its clock was never set", text)
	}
	return at, nil
}

// readDevice reads the basic state of a device, as its description tells.
func (v *Vitals) readDevice(ctx context.Context, target reach.System, d *device.Description) error {
	var last error
	for _, fact := range d.Vitals {
		if fact.Field == device.Clock || fact.Field == device.Zone {
			continue
		}
		value, err := deviceFact(ctx, target, fact)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			v.Lacks = append(v.Lacks, fact.Field+": "+transfer.Plain(err))
			if last = lostBy(target, err); last != nil {
				return last
			}
			continue
		}
		switch fact.Field {
		case "version":
			v.OS = value
		case "name":
			v.Host = value
		default:
			v.set(fact.Field, value)
		}
	}
	if len(d.Vitals) == 0 {
		return errors.New("the systems file and the ask do not describe what it tells (vitals: of its device)")
	}
	return nil
}

func (v *Vitals) set(field, value string) {
	if v.Values == nil {
		v.Values = map[string]string{}
	}
	v.Values[field] = value
}
