// Command sshtrue opens an SSH connection and runs `sudo true`: what every run has to pay at least. With quick it
// acknowledges at once what arrives; see tcp(7), TCP_QUICKACK.
//
//	sshtrue ADDRESS:PORT USER KEY once|quick
package main

import (
	"fmt"
	"net"
	"os"
	"syscall"

	"golang.org/x/crypto/ssh"
)

func main() {
	if err := once(os.Args[1], os.Args[2], os.Args[3], os.Args[4] == "quick"); err != nil {
		fmt.Fprintln(os.Stderr, "sshtrue:", err)
		os.Exit(1)
	}
}

func once(address, user, keyFile string, quickly bool) error {
	data, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	key, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return err
	}
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	if quickly {
		conn = quick{conn.(*net.TCPConn)}
	}
	c, chans, reqs, err := ssh.NewClientConn(conn, address, &ssh.ClientConfig{
		User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
	})
	if err != nil {
		return err
	}
	client := ssh.NewClient(c, chans, reqs)
	defer client.Close()
	s, err := client.NewSession()
	if err != nil {
		return err
	}
	return s.Run("sudo -n true")
}

type quick struct{ *net.TCPConn }

func (q quick) Read(b []byte) (int, error) {
	n, err := q.TCPConn.Read(b)
	if raw, rawErr := q.SyscallConn(); rawErr == nil {
		raw.Control(func(fd uintptr) { syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_QUICKACK, 1) })
	}
	return n, err
}
