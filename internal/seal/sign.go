package seal

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Signatures are those of OpenSSH (PROTOCOL.sshsig), which ssh-keygen -Y verify checks.
const (
	signatureMagic   = "SSHSIG"
	signatureVersion = 1
	signatureHash    = "sha512"
	signatureBegin   = "-----BEGIN SSH SIGNATURE-----"
	signatureEnd     = "-----END SSH SIGNATURE-----"

	// Namespace keeps a signature of an archive's manifest from being taken for one of anything else.
	Namespace = "envask"
)

// signedText is what the key signs.
type signedText struct {
	Namespace, Reserved, Hash string
	Sum                       []byte
}

// signature is what follows the magic in a signature.
type signature struct {
	Version                   uint32
	Key                       []byte
	Namespace, Reserved, Hash string
	Signature                 []byte
}

func sumToSign(sum []byte) []byte {
	return append([]byte(signatureMagic), ssh.Marshal(signedText{Namespace, "", signatureHash, sum})...)
}

// plainKey gives the key itself, of which a certificate may be all that a signer shows.
func plainKey(k ssh.PublicKey) ssh.PublicKey {
	if c, ok := k.(*ssh.Certificate); ok {
		return c.Key
	}
	return k
}

// Sign signs a message in the form of ssh-keygen -Y sign.
func Sign(signer ssh.Signer, message []byte) (string, error) {
	sum := sha512.Sum512(message)
	return SignOf(signer, sum[:])
}

// SignOf does the same for a message of which only the SHA-512 is at hand.
func SignOf(signer ssh.Signer, sum []byte) (string, error) {
	key := plainKey(signer.PublicKey())
	var made *ssh.Signature
	var err error
	if key.Type() == ssh.KeyAlgoRSA { // SHA-1, the oldest way of RSA, is not taken any more
		with, ok := signer.(ssh.AlgorithmSigner)
		if !ok {
			return "", errors.New("the key cannot sign with SHA-2")
		}
		made, err = with.SignWithAlgorithm(rand.Reader, sumToSign(sum), ssh.KeyAlgoRSASHA512)
	} else {
		made, err = signer.Sign(rand.Reader, sumToSign(sum))
	}
	if err != nil {
		return "", err
	}
	blob := append([]byte(signatureMagic), ssh.Marshal(signature{signatureVersion, key.Marshal(), Namespace, "",
		signatureHash, ssh.Marshal(made)})...)
	text := base64.StdEncoding.EncodeToString(blob)
	var out strings.Builder
	out.WriteString(signatureBegin + "\n")
	for len(text) > 70 {
		out.WriteString(text[:70] + "\n")
		text = text[70:]
	}
	out.WriteString(text + "\n" + signatureEnd + "\n")
	return out.String(), nil
}

// Signer describes the key that signs, for people to compare.
func Signer(k ssh.PublicKey) string {
	k = plainKey(k)
	return ssh.FingerprintSHA256(k) + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))
}

// CheckSignature says which key made a signature of a message. Whose key that is, it cannot know.
func CheckSignature(text string, message []byte) (signer string, err error) {
	sum := sha512.Sum512(message)
	return CheckSignatureOf(text, sum[:])
}

// CheckSignatureOf does the same for a message of which only the SHA-512 is at hand.
func CheckSignatureOf(text string, sum []byte) (signer string, err error) {
	text = strings.TrimSpace(text)
	body, begins := strings.CutPrefix(text, signatureBegin)
	body, ends := strings.CutSuffix(body, signatureEnd)
	if !begins || !ends {
		return "", errors.New("it is no signature")
	}
	blob, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(body), ""))
	if err != nil || !bytes.HasPrefix(blob, []byte(signatureMagic)) {
		return "", errors.New("it is no signature")
	}
	var s signature
	if err := ssh.Unmarshal(blob[len(signatureMagic):], &s); err != nil || s.Version != signatureVersion {
		return "", errors.New("it is no signature")
	}
	if s.Namespace != Namespace || s.Hash != signatureHash {
		return "", fmt.Errorf("it is one for something else (%q, %q)", short(s.Namespace), short(s.Hash))
	}
	key, err := ssh.ParsePublicKey(s.Key)
	if err != nil {
		return "", errors.New("its key cannot be read")
	}
	var made ssh.Signature
	if err := ssh.Unmarshal(s.Signature, &made); err != nil {
		return "", errors.New("it is no signature")
	}
	if made.Format == ssh.KeyAlgoRSA {
		return "", errors.New("it is made with SHA-1, which proves nothing any more")
	}
	if err := key.Verify(sumToSign(sum), &made); err != nil {
		return "", errors.New("it does not belong to this text")
	}
	return Signer(key), nil
}
