package flow

import (
	"fmt"
	"slices"
	"strings"

	"envask/internal/casefile"
	"envask/internal/redact"
	"envask/internal/site"
	"envask/internal/submit"
)

// Passwords, tokens and passphrases that we hold for the systems and routes are values that must not leave, wherever they stand: a log
// may repeat one without any word beside it that tells what it is.

// ownSecrets gives what we hold: by the systems file of a case (nil is none), by the credentials in the home, and what a person typed in
// since the program started. unknown names what cannot be read now.
func (a *App) ownSecrets(c *casefile.Case) (values []redact.Value, unknown []string) {
	var texts []string
	seen := map[site.Secret]bool{"": true}
	read := func(whose string, s site.Secret) {
		if seen[s] || a.Secret == nil {
			return
		}
		seen[s] = true
		text, err := a.Secret(s)
		if err != nil {
			unknown = append(unknown, whose)
			return
		}
		texts = append(texts, text)
	}
	if c != nil {
		if s, err := LoadSite(c.Systems); err == nil {
			for _, sys := range s.Systems {
				for _, secret := range sys.AllSecrets() {
					read("system "+sys.Name, secret)
				}
			}
		}
	}
	if list, err := submit.LoadCredentials(a.Home.Credentials()); err == nil { // submit says what is wrong with the file
		for _, x := range list {
			for _, s := range []site.Secret{x.Password, x.Token, x.Address} {
				read("route "+x.Route, s)
			}
		}
	}
	if a.Typed != nil {
		texts = append(texts, a.Typed()...)
	}
	for _, t := range texts {
		if t != "" {
			values = append(values, redact.Value{Text: t, Class: redact.Secret, Rule: redact.HeldRule})
		}
	}
	return values, unknown
}

// growingSecrets gives what gives our secrets, of which a person may type in more while it is called.
func (a *App) growingSecrets(c *casefile.Case) func() []redact.Value {
	base, _ := a.ownSecrets(c)
	return func() []redact.Value {
		if a.Typed == nil {
			return base
		}
		values := slices.Clone(base)
		for _, t := range a.Typed() {
			v := redact.Value{Text: t, Class: redact.Secret, Rule: redact.HeldRule}
			if !slices.Contains(values, v) {
				values = append(values, v)
			}
		}
		return values
	}
}

// addOwnSecrets adds what we hold to what is learned. One that every archive of the case says anyway (a password like the name of an
// item) cannot be removed everywhere.
func (a *App) addOwnSecrets(c *casefile.Case, learned *redact.Learned, said []string) error {
	values, unknown := a.ownSecrets(c)
	if len(unknown) > 0 {
		a.note("the secrets of %s cannot be read now: where one stands without a word that tells it, it is not known",
			strings.Join(slices.Compact(unknown), ", "))
	}
	text := strings.Join(said, "\n")
	words := 0
	for _, v := range values {
		leaks, err := redact.FindLeaks(redact.NewMatcher([]redact.Value{v}), strings.NewReader(text))
		switch {
		case err != nil:
			return fmt.Errorf("look for our own secrets: %w", err)
		case len(leaks) > 0:
			words++
		default:
			learned.Add(v)
		}
	}
	if words > 0 {
		a.note("%d of our own secrets %s what every archive of this case says (names of items, systems, states): not removed everywhere",
			words, plural(words, "is part of", "are part of"))
	}
	return nil
}
