package flow

import (
	"net/netip"
	"path/filepath"
	"strings"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/policy"
	"envask/internal/redact"
	"envask/internal/site"
)

// loadPolicy reads a file about redaction; mistakes in it are the engineer's to mend.
func loadPolicy(file string) (*policy.Policy, error) {
	p, err := policy.Load(file)
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Err: err}
	}
	return p, nil
}

// policy gives what is said about redaction in a case: by its ask, by the engineer for all cases, by the engineer for this
// one. The systems file adds the host names and domains of the site.
func (a *App) policy(c *casefile.Case, k *ask.Ask, domains []string) (*policy.Policy, error) {
	user, err := loadPolicy(filepath.Join(a.Home.Dir, policy.FileName))
	if err != nil {
		return nil, err
	}
	own, err := loadPolicy(filepath.Join(c.Dir, policy.FileName))
	if err != nil {
		return nil, err
	}
	ofSite := &policy.Policy{Domains: domains}
	if s, err := LoadSite(c.Systems); err == nil { // a broken systems file does not keep a round from being packed
		ofSite.Domains = append(append([]string{}, domains...), s.Domains...)
		ofSite.Literals = append(hostsOf(s), accountsOf(s)...)
	}
	return policy.Merge(k.Redaction, user, own, ofSite), nil
}

// hostsOf gives the host names under which the systems of a site are reached. What a system is called in the systems file is
// how the archive speaks of it, so that stays.
func hostsOf(s *site.Site) []redact.Value {
	names := map[string]bool{}
	for _, sys := range s.Systems {
		names[strings.ToLower(sys.Name)] = true
	}
	var out []redact.Value
	for _, sys := range s.Systems {
		for _, host := range sys.Hosts() {
			host = strings.ToLower(host)
			if _, err := netip.ParseAddr(host); err == nil || len(host) < redact.MinName || names[host] || host == "localhost" {
				continue
			}
			out = append(out, redact.Value{Text: host, Class: redact.Host, Rule: redact.LiteralRule})
		}
	}
	return out
}

// accountsOf gives the accounts with which we log in to the systems of a site: they stand in reasons and logs. One that is a plain word is
// replaced where its place tells that it is an account, and not in every path and class.
func accountsOf(s *site.Site) (out []redact.Value) {
	names := map[string]bool{}
	for _, sys := range s.Systems {
		names[strings.ToLower(sys.Name)] = true
	}
	for _, sys := range s.Systems {
		for _, account := range sys.Accounts() {
			if len(account) < redact.MinName || names[strings.ToLower(account)] || !strings.ContainsAny(account, `-._@\0123456789`) {
				continue
			}
			out = append(out, redact.Value{Text: account, Class: redact.User, Rule: redact.LiteralRule})
		}
	}
	return out
}

// disclosed gives the values that stay readable because the vendor asked for them and the engineer answered: identifiers of
// the form that a question wants, and the people and numbers in answers that say whom to call. A secret is never one.
func disclosed(k *ask.Ask, answers map[string]string, o redact.Options) map[string]redact.Class {
	out := map[string]redact.Class{}
	for _, q := range k.Questions {
		answer := answers[q.ID]
		if answer == "" || !q.Disclose && (q.Like == nil || !q.Like.MatchString(answer)) {
			continue
		}
		if q.Like != nil && q.Like.MatchString(answer) {
			out[answer] = redact.ID
		}
		if !q.Disclose {
			continue
		}
		learned := redact.NewLearned()
		o.Learned = learned
		if _, err := redact.NewEngine(o).Text(nil, strings.NewReader(answer+"\n")); err != nil {
			continue
		}
		for _, v := range learned.Values() {
			if v.Class != redact.Secret {
				out[v.Text] = v.Class
			}
		}
	}
	return out
}
