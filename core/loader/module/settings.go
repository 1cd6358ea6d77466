package module

import (
	"context"
	"encoding/hex"
	"errors"
	"math/big"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/link/uds"
	"zealousferry/core/loader"
)

// Settings reads what the module is set to. An identifier that it does not have is no
// setting of it.
func (s *session) Settings(ctx context.Context) ([]loader.Setting, error) {
	if err := s.toSet(ctx); err != nil {
		return nil, err
	}
	all := []loader.Setting{}
	for _, x := range s.o.Settings.Each {
		data, err := s.setting(ctx, x)
		var n *uds.Negative
		if errors.As(err, &n) && n.Code == uds.OutOfRange {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, loader.Setting{Name: x.Name, Value: x.shows(data)})
	}
	return all, nil
}

// PutSetting writes one, in as many bytes as the module has for it.
func (s *session) PutSetting(ctx context.Context, to loader.Setting) error {
	if err := s.toSet(ctx); err != nil {
		return err
	}
	at := slices.IndexFunc(s.o.Settings.Each, func(x setting) bool { return x.Name == to.Name })
	if at < 0 {
		return core.Fail(core.RefusedByUnit, "the module's sheet knows no setting %q", to.Name)
	}
	x := s.o.Settings.Each[at]
	was, err := s.setting(ctx, x)
	if err != nil {
		return err
	}
	data, err := x.bytes(to.Value, len(was))
	if err != nil {
		return err
	}
	return s.again(ctx, func() error { return s.uds.PutData(ctx, x.DID, data) }) // twice is the same as once
}

// toSet takes the module to where it gives and takes its settings.
func (s *session) toSet(ctx context.Context) error {
	if err := s.Can(loader.Keep); err != nil || s.ready == inSettings {
		return err
	}
	if err := s.play(ctx, s.o.Settings.First); err != nil {
		return err
	}
	s.ready = inSettings
	return nil
}

func (s *session) setting(ctx context.Context, x setting) (data []byte, err error) {
	err = s.again(ctx, func() error {
		data, err = s.uds.Data(ctx, x.DID)
		return err
	})
	return data, err
}

// shows puts its bytes into words.
func (x setting) shows(data []byte) string {
	switch x.As {
	case "text":
		return strings.TrimRight(string(data), "\x00")
	case "number":
		return numberOf(data)
	}
	return strings.ToUpper(hexOf(data))
}

// bytes are those of a value, as many as the module has for it.
func (x setting) bytes(value string, room int) ([]byte, error) {
	bad := func(says string) ([]byte, error) {
		return nil, core.Fail(core.RefusedByUnit, "setting %s cannot be %q: %s", x.Name, value, says)
	}
	data, fill := []byte(value), room-len(value)
	switch x.As {
	case "number":
		n, ok := new(big.Int).SetString(value, 10)
		if !ok || n.Sign() < 0 {
			return bad("expected a whole number from 0")
		}
		if len(n.Bytes()) > room {
			return bad("the module has too few bytes for it")
		}
		return n.FillBytes(make([]byte, room)), nil
	case "text":
		if fill < 0 {
			return bad("the module has too few bytes for it")
		}
		return append(data, make([]byte, fill)...), nil
	}
	b, err := hex.DecodeString(value)
	if err != nil {
		return bad("expected pairs of hex digits")
	}
	return b, nil
}
