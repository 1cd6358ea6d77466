package link

import (
	"context"
	"fmt"
	"time"
)

// Shape is what a link carries.
type Shape string

// The shapes. A loader that says nothing wants a stream.
const (
	Bytes     Shape = ""
	Addressed Shape = "messages" // CAN frames with a transport on them, or messages as they are
)

// ShapeOf is the shape of an open link.
func ShapeOf(l Link) Shape {
	switch l.(type) {
	case Frames, Messages:
		return Addressed
	}
	return Bytes
}

// Frame is a frame of classic CAN (ISO 11898-1): up to 8 bytes under an identifier of 11
// bits, or of 29 where it is Extended.
type Frame struct {
	ID       uint32
	Extended bool
	Remote   bool
	N        uint8 // bytes of Data
	Data     [8]byte
}

// NewFrame makes a data frame; of data the first eight bytes count.
func NewFrame(id uint32, extended bool, data []byte) Frame {
	f := Frame{ID: id, Extended: extended}
	f.N = uint8(copy(f.Data[:], data))
	return f
}

func (f Frame) String() string { return fmt.Sprintf("%s [% X]", f.Identifier(), f.Data[:f.N]) }

// Identifier is it in hex: three digits, or eight of an extended one.
func (f Frame) Identifier() string {
	if f.Extended {
		return fmt.Sprintf("%08X", f.ID)
	}
	return fmt.Sprintf("%03X", f.ID)
}

// Frames is a CAN bus. All methods may be called by several goroutines.
type Frames interface {
	Link
	// SendFrame hands a frame to the bus; frames of one caller keep their order.
	SendFrame(ctx context.Context, f Frame) error
	// Hear gives an ear for the frames with one of these identifiers (of 11 bits, or of
	// 29 where extended); without any, for all frames.
	Hear(extended bool, ids ...uint32) Ear
}

// Ear gets frames off a bus from the moment on at which it was made.
type Ear interface {
	// Next is the next frame; after the time it is os.ErrDeadlineExceeded, on a bus that is
	// gone an error of kind not-answering.
	Next(ctx context.Context, by time.Time) (Frame, error)
	// Lost counts frames that came while the ear was full.
	Lost() uint64
	Close()
}

// Messages is a link that carries whole messages between logical addresses.
type Messages interface {
	Link
	// Talk begins a conversation with whoever has the address.
	Talk(ctx context.Context, to uint16) (Conversation, error)
}

// Power is whether a vehicle is ready for diagnosis, as its gateway tells.
type Power string

// The answers; a gateway that was not heard has said nothing.
const (
	PowerUnknown  Power = ""
	PowerNotReady Power = "not-ready"
	PowerReady    Power = "ready"
	PowerNotTold  Power = "not-told" // it says that it cannot tell
)

// Entity is what a gateway says of itself.
type Entity struct {
	Counted bool   // whether it has told how many testers there are
	Most    int    // connections of testers that it takes
	Open    int    // that it has, ours among them
	Longest uint32 // of a message, in bytes; 0 where it does not tell
	Power   Power
}

// Told is a link to a gateway that can be asked about itself.
type Told interface {
	Entity(ctx context.Context) (Entity, error)
}

// Conversation goes to and fro between two. It is used by one goroutine at a time.
type Conversation interface {
	// Send returns once the message is on its way whole.
	Send(ctx context.Context, message []byte) error
	// Receive is the next message of the other one; after the time it is
	// os.ErrDeadlineExceeded. A message that is coming at that time is waited for.
	Receive(ctx context.Context, by time.Time) ([]byte, error)
	Close() error
}
