package signature_test

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"aead.dev/minisign"

	"fernladder/core/signature"
)

func ExampleVerify() {
	public, private, err := minisign.GenerateKey(nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	text := []byte("the archive of a fern")
	keys := &signature.Keys{}
	line, _ := public.MarshalText()
	if err := keys.Add("keys/growers.pub", line); err != nil {
		fmt.Println(err)
		return
	}
	file := signature.File{Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }}
	good, err := signature.Verify(file, minisign.Sign(private, text), keys, time.Now())
	fmt.Println(good.Format, good.KeyFile, err)
	_, err = signature.Verify(file, minisign.Sign(private, []byte("another")), keys, time.Now())
	fmt.Println(err != nil)
	// Output:
	// minisign keys/growers.pub <nil>
	// true
}
