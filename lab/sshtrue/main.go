// Command sshtrue opens an SSH connection, runs `true` and prints how many
// seconds that took: what every run has to pay at least.
//
//	sshtrue ADDRESS:PORT USER KEY N
package main

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"
)

func main() {
	n, err := strconv.Atoi(os.Args[4])
	for i := 0; i < n && err == nil; i++ {
		begun := time.Now()
		if err = once(os.Args[1], os.Args[2], os.Args[3]); err == nil {
			fmt.Println(time.Since(begun).Seconds())
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "sshtrue:", err)
		os.Exit(1)
	}
}

func once(address, user, keyFile string) error {
	data, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	key, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return err
	}
	client, err := ssh.Dial("tcp", address, &ssh.ClientConfig{
		User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
	})
	if err != nil {
		return err
	}
	defer client.Close()
	s, err := client.NewSession()
	if err != nil {
		return err
	}
	return s.Run("sudo -n true")
}
