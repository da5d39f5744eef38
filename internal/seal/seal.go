package seal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"

	"envask/internal/durable"
	"envask/internal/fault"
)

// Ending is what the name of an encrypted archive ends with.
const Ending = ".age"

// Recipient reads a public key: of age (age1…), or of SSH (ssh-ed25519 …, ssh-rsa …).
func Recipient(text string) (age.Recipient, error) {
	text = strings.TrimSpace(text)
	var r age.Recipient
	var err error
	switch {
	case strings.HasPrefix(text, "age1"):
		r, err = age.ParseX25519Recipient(text)
	case strings.HasPrefix(text, "ssh-"):
		r, err = agessh.ParseRecipient(text)
	case strings.HasPrefix(text, "AGE-SECRET-KEY-"):
		return nil, errors.New("this is a private key; the vendor's public key begins with age1")
	default:
		return nil, fmt.Errorf("%q is no public key: age1… or ssh-ed25519 … or ssh-rsa …", short(text))
	}
	if err != nil {
		return nil, fmt.Errorf("%q is no usable public key", short(text))
	}
	return r, nil
}

// short gives the beginning of a key.
func short(text string) string {
	if len(text) > 40 {
		return text[:40] + "…"
	}
	return text
}

// Passphrase makes a recipient of a passphrase. Weak ones are refused: what is sent can be tried at leisure.
func Passphrase(text string) (age.Recipient, error) {
	const least = 12
	if len([]rune(text)) < least {
		return nil, fault.New(fault.Usage, "--passphrase", "", fmt.Sprintf("it has fewer than %d characters", least), "take several words")
	}
	return age.NewScryptRecipient(text)
}

// File encrypts a file for some recipients, in one pass, until the context ends. The result is flushed and has its name only when it
// is whole.
func File(ctx context.Context, from, to string, told func(bytes int64), recipients ...age.Recipient) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	return durable.Write(to, 0o600, func(out io.Writer) error {
		w, err := age.Encrypt(out, recipients...)
		if err != nil {
			return err
		}
		if _, err := io.Copy(w, durable.Told(ctx, in, told)); err != nil {
			return err
		}
		return w.Close()
	})
}
