package reach

import (
	"net"
	"sync/atomic"
	"syscall"
)

// quick acknowledges at once what the other side sends, until the worker is ready. After the login sshd
// writes a small packet and then the answer to the opening of the channel, which its kernel holds back until the first
// is acknowledged (RFC 896); ours would wait 40 ms for something to send along with that (RFC 1122, 4.2.3.2).
type quick struct {
	*net.TCPConn
	ready atomic.Bool
}

// Read sets the option each time, since the kernel forgets it; see tcp(7), TCP_QUICKACK.
func (q *quick) Read(b []byte) (int, error) {
	n, err := q.TCPConn.Read(b)
	if err != nil || q.ready.Load() {
		return n, err
	}
	if raw, rawErr := q.SyscallConn(); rawErr == nil {
		raw.Control(func(fd uintptr) {
			syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_QUICKACK, 1)
		})
	}
	return n, err
}

// quickly makes a connection quick, if it is one by TCP.
func quickly(conn net.Conn) net.Conn {
	if tcp, ok := conn.(*net.TCPConn); ok {
		return &quick{TCPConn: tcp}
	}
	return conn
}
