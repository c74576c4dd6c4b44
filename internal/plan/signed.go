package plan

import (
	"bytes"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/signature"
	"catena/internal/site"
)

// OrderSignature is the namespace of the signatures of orders.
const OrderSignature = "catena-order"

// signatureRule is the kind of the entry that says which signatures the site requires from then
// on; its body is a site.Signatures. A rule that was lifted is in the ledger, too.
const signatureRule ledger.Kind = "signature-rule"

// UnsignedError is returned for an order that has fewer signatures than the site requires.
type UnsignedError struct {
	Name    string // of the order; empty: it was made on the fly
	By      string // who requires them: the site, or the station
	Need    int
	Have    int // signatures by keys of the site that hold
	Foreign int // signatures that do not hold: by other keys, or made before the order was changed
}

func (e *UnsignedError) Error() string {
	if e.Name == "" {
		return fmt.Sprintf("the site requires orders with %d signatures, and this order was "+
			"made on the spot", e.Need)
	}
	s := fmt.Sprintf("the order %s has %d of the %d signatures that %s requires", e.Name,
		e.Have, e.Need, e.By)
	if e.Foreign > 0 {
		s += fmt.Sprintf("; %d more are invalid: they are by other keys, or the order was "+
			"changed after they were made",
			e.Foreign)
	}
	return s
}

// ReadSigned reads an order and checks that it has the signatures that the site requires: of
// the very bytes that are read. Its errors are an UnsignedError and those of ReadOrder.
func (w *Site) ReadSigned(name string) (order.Order, error) {
	keys, err := w.signatureKeys()
	if err != nil {
		return order.Order{}, err
	}
	return w.ReadSignedBy(name, "the site", keys, w.Site.Signatures.Need)
}

// ReadSignedBy is ReadSigned with who requires signatures, the keys that count, and how many of
// them must have signed.
func (w *Site) ReadSignedBy(name, who string, keys []ssh.PublicKey, need int) (order.Order, error) {
	o, data, err := w.readOrder(name)
	if err != nil {
		return o, err
	}
	held, foreign, err := w.signatures(name, data, keys)
	if err != nil {
		return o, err
	}
	for _, key := range held {
		o.Signed = append(o.Signed, ssh.FingerprintSHA256(key))
	}
	if len(held) < need {
		return o, &UnsignedError{Name: name, By: who, Need: need, Have: len(held), Foreign: foreign}
	}
	return o, nil
}

// OnTheFly refuses orders without a file where the site requires signatures.
func (w *Site) OnTheFly() error {
	if need := w.Site.Signatures.Need; need > 0 {
		return &UnsignedError{Need: need}
	}
	return nil
}

// signatureKeys are the keys whose signatures count: lines, or files in the site folder.
func (w *Site) signatureKeys() (out []ssh.PublicKey, err error) {
	for _, text := range w.Site.Signatures.Keys {
		path := text
		if !filepath.IsAbs(path) {
			path = filepath.Join(w.Dir, path)
		}
		if raw, err := files.Read(path, files.Key); err == nil {
			text = string(raw)
		}
		key, err := signature.Public(text)
		if err != nil {
			return nil, fmt.Errorf("%s: signatures: keys: %s is neither a public key nor a file in the "+
				"site folder that holds one",
				filepath.Join(w.Dir, site.File), text)
		}
		out = append(out, key)
	}
	return out, nil
}

// signatures are the keys whose signatures of an order hold, each once, and how many do not.
func (w *Site) signatures(name string, data []byte,
	keys []ssh.PublicKey) (held []ssh.PublicKey,
	foreign int, err error) {
	blocks, err := w.signatureBlocks(name)
	if err != nil {
		return nil, 0, err
	}
	for _, block := range blocks {
		i := slices.IndexFunc(keys, func(k ssh.PublicKey) bool {
			return signature.Verify(bytes.NewReader(data), block, k, OrderSignature) == nil
		})
		switch {
		case i < 0:
			foreign++
		case !slices.ContainsFunc(held, func(k ssh.PublicKey) bool { return sameKey(k, keys[i]) }):
			held = append(held, keys[i])
		}
	}
	return held, foreign, nil
}

func sameKey(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }

// mostSignatures bounds how many an order may have.
const mostSignatures = 16

// signatureBlocks are the signatures beside an order's file, one after the other.
func (w *Site) signatureBlocks(name string) (out [][]byte, err error) {
	raw, err := files.Read(w.OrderPath(name)+signature.Ending, files.Key)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for rest := raw[:min(len(raw), mostSignatures*signature.MaxSize)]; len(out) < mostSignatures; {
		var block *pem.Block
		block, rest = pem.Decode(rest)
		if block == nil {
			return out, nil
		}
		out = append(out, pem.EncodeToMemory(block))
	}
	return out, nil
}

// SignOrder adds a signature to an order. Those that do not hold any more, because the order
// was changed, go. It returns how many there are now.
func (w *Site) SignOrder(name string, key ssh.Signer) (count int, err error) {
	_, data, err := w.readOrder(name)
	if err != nil {
		return 0, err
	}
	known, err := w.signatureKeys()
	if err != nil {
		return 0, err
	}
	blocks, err := w.signatureBlocks(name)
	if err != nil {
		return 0, err
	}
	blocks = slices.DeleteFunc(blocks, func(b []byte) bool {
		return !slices.ContainsFunc(known, func(k ssh.PublicKey) bool {
			return !sameKey(k, key.PublicKey()) &&
				signature.Verify(bytes.NewReader(data), b, k, OrderSignature) == nil
		})
	})
	mine, err := signature.Sign(bytes.NewReader(data), key, OrderSignature)
	if err != nil {
		return 0, err
	}
	blocks = append(blocks, mine)
	return len(blocks), atomicfile.Replace(w.OrderPath(name)+signature.Ending,
		bytes.Join(blocks, nil), 0o644)
}

// NoteSignatureRule records which signatures the site requires, where that is another rule than
// the one recorded last.
func (w *Site) NoteSignatureRule() error {
	now := w.Site.Signatures
	last, err := w.Ledger.Entries(ledger.Filter{Kind: signatureRule, Last: 1})
	if err != nil {
		return err
	}
	var was site.Signatures
	if len(last) > 0 {
		if err := json.Unmarshal(last[0].Body, &was); err != nil {
			return err
		}
	}
	if was.Need == now.Need && slices.Equal(was.Keys, now.Keys) {
		return nil
	}
	return w.Ledger.Append(signatureRule, "", "", now)
}
