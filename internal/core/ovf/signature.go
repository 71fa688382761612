package ovf

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
)

// signedBy checks a signature (in hexadecimal) of a text by the key of a certificate (PEM), and returns whose that says it is.
func signedBy(d digest, text []byte, signature string, certificate []byte) (string, error) {
	block, _ := pem.Decode(certificate)
	if block == nil || block.Type != "CERTIFICATE" {
		return "", errors.New("it has no certificate (PEM)")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return "", fmt.Errorf("its certificate cannot be read: %w", err)
	}
	key, is := c.PublicKey.(*rsa.PublicKey)
	if !is {
		return "", errors.New("its certificate has no key of RSA, with which manifests are signed")
	}
	value, err := hex.DecodeString(signature)
	if err != nil {
		return "", fmt.Errorf("its signature cannot be read: %w", err)
	}
	h := d.new()
	h.Write(text)
	if rsa.VerifyPKCS1v15(key, d.sign, h.Sum(nil), value) != nil {
		return "", errors.New("its signature is not that of the manifest: somebody has changed it")
	}
	return c.Subject.String(), nil
}
