package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// Identity reads a private key that opens what was encrypted for its public half: of age (AGE-SECRET-KEY-1…, also with comments around it),
// or of SSH without a passphrase.
func Identity(data []byte) ([]age.Identity, error) {
	if bytes.Contains(data, []byte("AGE-SECRET-KEY-1")) {
		return age.ParseIdentities(bytes.NewReader(data))
	}
	id, err := agessh.ParseIdentity(data)
	if err != nil {
		return nil, fmt.Errorf("it is no private key of age, and none of SSH without a passphrase: %w", plainKeyError(err))
	}
	return []age.Identity{id}, nil
}

// plainKeyError leaves out what a parser says of the key itself.
func plainKeyError(err error) error {
	var need interface{ Error() string }
	if errors.As(err, &need) && bytes.Contains([]byte(err.Error()), []byte("passphrase")) {
		return errors.New("it has a passphrase")
	}
	return errors.New("it cannot be read")
}

// Open reads what was encrypted for one of the identities.
func Open(r io.Reader, identities ...age.Identity) (io.Reader, error) {
	out, err := age.Decrypt(r, identities...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, errors.New("it was encrypted for another key")
	}
	return out, err
}
