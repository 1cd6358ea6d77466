package client

import (
	"context"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/link/monitor"
	"zealousferry/core/link/ports"
	"zealousferry/core/procedure"
)

// IdentifyAs asks in a way of its own: as one model, with the power applied meanwhile, slower.
func (c *Client) IdentifyAs(ctx context.Context, n NewIdentify) (Identity, error) {
	return post[Identity](ctx, c, "/api/identify", n)
}

// Check proves a link, or finds out why nothing sensible comes over it.
func (c *Client) Check(ctx context.Context, n NewCheck) (Check, error) {
	return post[Check](ctx, c, "/api/checks", n)
}

// Checks lists the checks of a link.
func (c *Client) Checks(ctx context.Context, at string) (Checks, error) {
	return get[Checks](ctx, c, "/api/checks?"+url.Values{"at": {at}}.Encode())
}

// Asked is what is being asked on a link just now.
func (c *Client) Asked(ctx context.Context, at string) (Asked, error) {
	return get[Asked](ctx, c, "/api/asked?"+url.Values{"at": {at}}.Encode())
}

// EndAsked has the bench end what is being asked on a link.
func (c *Client) EndAsked(ctx context.Context, at string) (Asked, error) {
	return post[Asked](ctx, c, "/api/asked/end", At{At: at})
}

// Listen hears what is on a line.
func (c *Client) Listen(ctx context.Context, n NewListen) (Heard, error) {
	return post[Heard](ctx, c, "/api/listen", n)
}

// PutWires says which colours the wires on a link have.
func (c *Client) PutWires(ctx context.Context, n NewWires) (Wires, error) {
	return post[Wires](ctx, c, "/api/wires", n)
}

// Echo asks whether what is sent comes back.
func (c *Client) Echo(ctx context.Context, at string) (Echoed, error) {
	return post[Echoed](ctx, c, "/api/echo", Echo{At: at})
}

// Ports lists the serial ports of a bench.
func (c *Client) Ports(ctx context.Context, bench string) (Ports, error) {
	return get[Ports](ctx, c, "/api/benches/"+segment(bench)+"/ports")
}

// PortsAndVehicles is the same, and asks on the bench's networks who is there, which takes
// two seconds.
func (c *Client) PortsAndVehicles(ctx context.Context, bench string) (Ports, error) {
	return get[Ports](ctx, c, "/api/benches/"+segment(bench)+"/ports?vehicles=true")
}

// Links lists the links of all benches.
func (c *Client) Links(ctx context.Context) (Links, error) {
	return whole(ctx, c, "/api/links", func(all *Links, p Links) { all.Links = append(all.Links, p.Links...) })
}

// Identify asks the unit on a link who it is; label is the serial on its label.
func (c *Client) Identify(ctx context.Context, at, label string) (Identity, error) {
	in := map[string]string{"at": at}
	if label != "" {
		in["label"] = label
	}
	return post[Identity](ctx, c, "/api/identify", in)
}

// At names a place.
type At struct {
	At string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
}

// Asked is what a bench is asking on a link.
type Asked struct {
	Link  string     `json:"link"`
	Kind  string     `json:"kind" enum:",identify,check,scan,listen,echo,try" doc:"Empty where nothing is being asked."`
	By    string     `json:"by,omitempty"`
	Since *time.Time `json:"since,omitempty"`
	Told  *core.Said `json:"told,omitempty" doc:"How far it is, as the bench has told last."`
	Ends  bool       `json:"ends" doc:"It can be ended before it is over."`
}

// Link is a way to a unit.
type Link struct {
	Link       string     `json:"link" doc:"BENCH/NAME"`
	Bench      string     `json:"bench"`
	Name       string     `json:"name"`
	Kind       string     `json:"kind"`
	State      string     `json:"state" enum:"free,busy,absent,offline"`
	Absent     string     `json:"absent,omitempty" doc:"Why it cannot be opened just now, in words."`
	Run        string     `json:"run,omitempty" doc:"The run that has it."`
	Unit       string     `json:"unit,omitempty" doc:"Id of the unit last identified on it."`
	Serial     string     `json:"serial,omitempty"`
	Model      string     `json:"model,omitempty"`
	Site       string     `json:"site,omitempty"`
	Identified *time.Time `json:"identified,omitempty"`
	Modules    int        `json:"modules,omitempty" doc:"How many units were found behind it, each at a place of its own."`
	Asked      string     `json:"asked,omitempty" doc:"What is being asked on it just now: a kind of question, as get-asked has them."`
	Adapter    string     `json:"adapter,omitempty" doc:"Serial of the adapter that the bench has on it."`
	Checked    *time.Time `json:"checked,omitempty" doc:"When it was proved last."`
	Class      string     `json:"class,omitempty" doc:"What the last check saw; sound for a good link."`
}

// Links is a list of links.
type Links struct {
	Links []Link `json:"links" nullable:"false"`
	Paged
}

// Identity is what was found on a link.
type Identity struct {
	Link      string               `json:"link"`
	Unit      string               `json:"unit,omitempty" doc:"Id in the register; empty where the serial is not known."`
	Serial    string               `json:"serial,omitempty"`
	Model     string               `json:"model"`
	ModelName string               `json:"modelName"`
	Site      string               `json:"site,omitempty"`
	Stays     *core.Said           `json:"stays,omitempty" doc:"It is half done and was left in its loader: that, in words."`
	Strength  string               `json:"strength"`
	Facts     map[string]FactValue `json:"facts"`
	Missing   []string             `json:"missing" nullable:"false" doc:"Names of facts that releases of this model ask for and nobody knows."`
	Disagree  []string             `json:"disagree" nullable:"false" doc:"Names of facts on which the wire and the label disagree."`
}

// NewWires says which colours the wires on a link have.
type NewWires struct {
	At    string            `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Wires procedure.Colours `json:"wires" doc:"Colour, or what is written on the wire, by the unit's pin."`
}

// Wires are the wires on a link as somebody saw them last.
type Wires struct {
	Link    string            `json:"link"`
	Adapter string            `json:"adapter,omitempty"`
	Wires   procedure.Colours `json:"wires" nullable:"false"`
	By      string            `json:"by"`
	At      time.Time         `json:"at"`
}

// NewIdentify asks who is on a link.
type NewIdentify struct {
	At     string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Label  string `json:"label,omitempty" maxLength:"64" doc:"The serial on the label, where the wire does not tell it."`
	Model  string `json:"model,omitempty" maxLength:"63" doc:"The one whose loader is called, and no other; one that can be told only by eye must be named."`
	Await  bool   `json:"await,omitempty" doc:"A person applies the power while the bench calls."`
	Slower bool   `json:"slower,omitempty" doc:"The loader stays at the speed at which it is called."`
}

// Check is what a check of a link showed.
type Check struct {
	ID        string         `json:"id,omitempty"`
	Link      string         `json:"link"`
	Model     string         `json:"model" doc:"Whose loader was called."`
	Class     string         `json:"class" doc:"A class of docs/diagnosis.md; sound for a good link."`
	Head      core.Said      `json:"head" doc:"What came of it, in a sentence."`
	Words     []core.Said    `json:"words" nullable:"false" doc:"What was seen, in order."`
	Test      *diagnose.Test `json:"test,omitempty" doc:"What tells the faults of the class apart."`
	Asks      bool           `json:"asks" doc:"A person must do the test."`
	Fault     string         `json:"fault,omitempty"`
	Says      string         `json:"says,omitempty"`
	Do        string         `json:"do,omitempty"`
	Seen      diagnose.Seen  `json:"seen"`
	Unplugged bool           `json:"unplugged,omitempty" doc:"The counter-proof: nothing may answer."`
	Passed    bool           `json:"passed" doc:"The link is proved; of a counter-proof: nothing answered."`
	By        string         `json:"by,omitempty"`
	At        time.Time      `json:"at"`
}

// Checks are the checks of a link, the newest first.
type Checks struct {
	Checks []Check `json:"checks" nullable:"false"`
}

// NewCheck asks for a check.
type NewCheck struct {
	At        string           `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Model     string           `json:"model,omitempty" maxLength:"63" doc:"Whose loader should answer; the one last seen there where it is empty."`
	Unplugged bool             `json:"unplugged,omitempty" doc:"The plug is pulled: the same question has to fail."`
	Answer    *diagnose.Answer `json:"answer,omitempty" doc:"Of the test that the last check proposed."`
}

// Echo asks whether what is sent on a link comes back: the self-test of an adapter.
type Echo struct {
	At   string `json:"at" minLength:"1" maxLength:"120"`
	Baud int    `json:"baud,omitempty"`
}

// NewListen asks what is on a line.
type NewListen struct {
	At     string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Lasts  int    `json:"lasts,omitempty" minimum:"0" maximum:"10000" doc:"ms; 100 at least."`
	Baud   int    `json:"baud,omitempty" minimum:"0" maximum:"12000000" doc:"That of the model's program where it is 0."`
	Model  string `json:"model,omitempty" maxLength:"63" doc:"The one last seen on the link where it is empty."`
	Say    string `json:"say,omitempty" maxLength:"200" doc:"A line of text for the program, sent first."`
	Loader bool   `json:"loader,omitempty" doc:"Say it through the unit's loader, whose console passes it on."`
}

// Heard is what was on a line.
type Heard struct {
	Link   string `json:"link"`
	Answer string `json:"answer,omitempty" doc:"Of the program, through its loader."`
	monitor.Heard
}

// Echoed is the answer.
type Echoed struct {
	Came bool `json:"came"`
}

// Ports are the serial ports of a bench, and what vehicles are on its networks.
type Ports struct {
	Bench    string       `json:"bench"`
	Ports    []ports.Port `json:"ports" nullable:"false"`
	Vehicles []Vehicle    `json:"vehicles" nullable:"false" doc:"That announced themselves."`
	Asked    bool         `json:"asked,omitempty" doc:"The bench has asked for vehicles; false where nobody wanted it, or it could not."`
}

// Vehicle is one whose gateway has announced itself (ISO 13400-2, vehicle announcement).
type Vehicle struct {
	Address string `json:"address" doc:"HOST:PORT of its gateway."`
	VIN     string `json:"vin,omitempty" doc:"Vehicle identification number; empty where none is set."`
	Logical uint16 `json:"logical" doc:"Logical address of the gateway."`
	Link    string `json:"link,omitempty" doc:"The bench's link that goes there."`
}

// PortChoice is where a link goes: a serial port by its path, or by the adapter wherever
// that is plugged in, or a serial port over the network (RFC 2217).
type PortChoice struct {
	Path      string `json:"path,omitempty" maxLength:"200"`
	Adapter   string `json:"adapter,omitempty" maxLength:"64" doc:"Serial of the adapter."`
	Address   string `json:"address,omitempty" maxLength:"200" doc:"HOST:PORT of a serial port over the network."`
	Rate      int    `json:"rate,omitempty" doc:"A CAN adapter is there; the rate of its bus in bit/s."`
	Interface string `json:"interface,omitempty" maxLength:"15" pattern:"^[A-Za-z0-9_.-]*$" doc:"CAN interface of the bench's machine, such as can0; its bit rate is set there."`
	Gateway   string `json:"gateway,omitempty" maxLength:"200" doc:"HOST or HOST:PORT of a vehicle's gateway (ISO 13400-2)."`
	Remove    bool   `json:"remove,omitempty" doc:"The bench has this link no longer."`
}

// NewLink makes a link, changes where it goes, or removes it.
type NewLink struct {
	Link string `json:"link" minLength:"3" maxLength:"120" doc:"BENCH/NAME."`
	PortChoice
}

// SetLink makes a link of a bench, changes where it goes, or removes it.
func (c *Client) SetLink(ctx context.Context, n NewLink) error {
	_, err := post[struct{}](ctx, c, "/api/links", n)
	return err
}
