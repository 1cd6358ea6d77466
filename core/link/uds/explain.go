package uds

import "fmt"

// titles are the services as the standard calls them (ISO 14229-1, table 2).
var titles = map[byte]string{
	SessionControl: "DiagnosticSessionControl", EcuReset: "ECUReset", ClearInformation: "ClearDiagnosticInformation", ReadInformation: "ReadDTCInformation", ReadData: "ReadDataByIdentifier",
	ReadMemoryAt: "ReadMemoryByAddress", SecurityAccess: "SecurityAccess", Communication: "CommunicationControl", WriteData: "WriteDataByIdentifier", RoutineControl: "RoutineControl",
	RequestDownload: "RequestDownload", RequestUpload: "RequestUpload", TransferData: "TransferData", TransferExit: "RequestTransferExit", TesterPresent: "TesterPresent", CodeSetting: "ControlDTCSetting",
}

func title(service byte) string {
	if t := titles[service]; t != "" {
		return t
	}
	return fmt.Sprintf("service 0x%02X", service)
}

// Explain puts the beginning of a message into words: the service, and what came of it.
func Explain(sent bool, m []byte) string {
	switch {
	case len(m) == 0:
		return ""
	case sent:
		return title(m[0])
	case m[0] == negative && len(m) >= 3:
		if x, ok := codes[m[2]]; ok {
			return fmt.Sprintf("%s: refused, %s (0x%02X)", title(m[1]), x.says, m[2])
		}
		return fmt.Sprintf("%s: refused, code 0x%02X", title(m[1]), m[2])
	case m[0] == negative && len(m) == 2:
		return title(m[1]) + ": refused"
	case m[0] >= 0x40:
		return title(m[0]-0x40) + ": done"
	}
	return ""
}
