// Package client is the typed client of our own HTTP API, and the shapes that
// go over it. The command line and the bench use it; the console's types are
// generated from the same shapes.
package client

import (
	"zealousferry/core"
)

// Problem is an error on the wire, RFC 9457, with our kinds.
type Problem struct {
	Type   string    `json:"type" doc:"about:blank"`
	Title  string    `json:"title"`
	Status int       `json:"status"`
	Detail string    `json:"detail" doc:"What happened."`
	Kind   core.Kind `json:"kind" doc:"One of the kinds in docs/api.md."`
	core.UnitState
	ID     string   `json:"id,omitempty" doc:"Of the message, as docs/messages.md lists it."`
	Params []string `json:"params,omitempty" doc:"What was put into it, in order."`
	core.Todo
	Place string `json:"place,omitempty" enum:"line,offset" doc:"What at counts, where a file is bad."`
	At    int64  `json:"at,omitempty"`
}

// The kinds of order.
const (
	OrderIdentify = "identify"
	OrderRun      = "run"
	OrderResume   = "resume"
	OrderStop     = "stop"
	OrderAbandon  = "abandon"
	OrderLayAside = "lay-aside"
	OrderAnswer   = "answer"
	OrderBorrow   = "borrow"
	OrderCheck    = "check"
	OrderEcho     = "echo"
	OrderListen   = "listen"
	OrderTry      = "try"
	OrderScan     = "scan"
	OrderClear    = "clear"
	OrderLearn    = "learn"
	OrderEnd      = "end"
	OrderSetLink  = "set-link"
	OrderPorts    = "ports"
)
