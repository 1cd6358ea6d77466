package client

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/registry"
)

// ImageFile gets an image file.
func (c *Client) ImageFile(ctx context.Context, digest core.Digest) (data []byte, err error) {
	err = c.call(ctx, "GET", "/api/images/"+digest.String(), nil, &data)
	return data, err
}

// PutImage keeps an image file.
func (c *Client) PutImage(ctx context.Context, name string, as model.Part, data []byte) (Image, error) {
	q := url.Values{"name": {name}, "format": {as.Format}, "address": {fmt.Sprint(as.Address)}}
	if as.Counts != "" {
		q.Set("counts", string(as.Counts))
	}
	return post[Image](ctx, c, "/api/images?"+q.Encode(), data)
}

// Inspect has the service look at a firmware file, without keeping it.
func (c *Client) Inspect(ctx context.Context, file io.ReaderAt, size int64, name string, o registry.Choice) (Inspection, error) {
	if size > MaxImage {
		return Inspection{}, core.Fail(core.BadFile, "the service takes files of up to %d MiB", MaxImage>>20)
	}
	data := make([]byte, size)
	if _, err := file.ReadAt(data, 0); err != nil && err != io.EOF {
		return Inspection{}, err
	}
	q := url.Values{"name": {name}, "format": {o.Format}, "member": {o.Member}, "address": {fmt.Sprint(o.At)}}
	if o.Family != nil {
		q.Set("family", fmt.Sprint(*o.Family))
	}
	return post[Inspection](ctx, c, "/api/images/inspect?"+q.Encode(), data)
}

// MaxImage is the largest file that the service takes.
const MaxImage = 64 << 20

// Image is what an image file holds.
type Image struct {
	Digest   core.Digest `json:"sha256"`
	Bytes    int         `json:"bytes"`
	Format   string      `json:"format"`
	From     uint64      `json:"from"`
	To       uint64      `json:"to"`
	Payload  uint64      `json:"payload"`
	Warnings []core.Said `json:"warnings" nullable:"false"`
	Known    []Known     `json:"known,omitempty" doc:"Releases that have this image already."`
}

// Inspection is what a firmware file holds, and what the catalogue knows of it.
type Inspection struct {
	Name   string      `json:"name,omitempty"`
	Format string      `json:"format"`
	Bytes  int64       `json:"bytes" doc:"Of the file."`
	SHA256 core.Digest `json:"sha256" doc:"Of the file."`
	Packed string      `json:"packed,omitempty" enum:"zip,gzip"`
	Member string      `json:"member,omitempty" doc:"The file in the archive."`
	image.Report
	Known  []Known `json:"known,omitempty" doc:"Releases that hold this image, or the nearest one."`
	Models []Size  `json:"models,omitempty" doc:"How it suits the memory of each model."`
}

// Known is a release that holds an image, or some of it.
type Known struct {
	Release string `json:"release" doc:"Id."`
	Model   string `json:"model"`
	Version string `json:"version"`
	Part    string `json:"part"`
	How     string `json:"how" enum:"same-file,same-image,nearest" doc:"Byte for byte, the same bytes in memory, or the most in common."`
	Same    int    `json:"same" doc:"Chunks of 4 KiB in common, for the nearest."`
	Of      int    `json:"of"`
}

// Words say it to a person.
func (k Known) Words() string {
	switch k.How {
	case "same-file":
		return core.Say("part %s of %s %s, the very file", k.Part, k.Model, k.Version).Text
	case "same-image":
		return core.Say("part %s of %s %s, the same image in another file", k.Part, k.Model, k.Version).Text
	}
	return core.Say("not known; nearest is part %s of %s %s: %d of %d pieces of 4 KiB alike", k.Part, k.Model, k.Version, k.Same, k.Of).Text
}

// Size says how an image suits a model's memory.
type Size struct {
	Model   string   `json:"model"`
	Name    string   `json:"name"`
	Memory  uint64   `json:"memory" doc:"Bytes from the first region on."`
	Inside  bool     `json:"inside" doc:"Every byte lies in a region."`
	Touches []string `json:"touches" nullable:"false" doc:"Regions that it would write."`
	Bars    string   `json:"bars,omitempty" doc:"Why it may not be written there."`
	// Of the message in Bars, and what was put into it.
	BarsID     string   `json:"barsId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	BarsParams []string `json:"barsParams,omitempty" doc:"What was put into it, in order."`
}

// Words say it to a person.
func (m Size) Words() string {
	switch {
	case m.Bars != "":
		return core.Say("✗ %s: %s", m.Name, m.Bars).Text
	case !m.Inside:
		return core.Say("✗ %s: reaches outside of its %d KiB", m.Name, m.Memory>>10).Text
	}
	return core.Say("✓ %s, %d KiB: writes %s", m.Name, m.Memory>>10, strings.Join(m.Touches, ", ")).Text
}
