//go:build unix

package isolation

import (
	"io"
	"net"
	"os"
	"syscall"
)

// connect makes one more connection to a process: its end is handed over on the one that there is.
func connect(control *net.UnixConn) (net.Conn, error) {
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	defer ours.Close() // FileConn makes a copy
	defer theirs.Close()
	if _, _, err := control.WriteMsgUnix([]byte{0}, syscall.UnixRights(int(theirs.Fd())), nil); err != nil {
		return nil, err
	}
	return net.FileConn(ours)
}

// receive takes the end of a connection that connect has handed over.
func receive(control *net.UnixConn) (net.Conn, error) {
	one, rights := make([]byte, 1), make([]byte, syscall.CmsgSpace(4))
	n, size, _, _, err := control.ReadMsgUnix(one, rights)
	if err != nil {
		return nil, err
	}
	if n == 0 {
		return nil, io.EOF
	}
	messages, err := syscall.ParseSocketControlMessage(rights[:size])
	if err != nil {
		return nil, err
	}
	for _, m := range messages {
		if handed, err := syscall.ParseUnixRights(&m); err == nil && len(handed) == 1 {
			file := os.NewFile(uintptr(handed[0]), "connection")
			defer file.Close() // FileConn makes a copy
			return net.FileConn(file)
		}
	}
	return nil, io.ErrUnexpectedEOF
}
