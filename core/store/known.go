package store

import (
	"os"
	"sync"
	"syscall"
	"time"
)

// known are valid receipts that were read, as long as their files are unchanged: one command
// asks for a receipt several times.
type known struct {
	lock sync.Mutex
	all  map[Ref]knownReceipt
}

type knownReceipt struct {
	identity identity
	receipt  Receipt
}

// identity identifies an unchanged file.
type identity struct {
	inode    uint64
	size     int64
	modified time.Time
}

func identityOf(info os.FileInfo) identity {
	return identity{info.Sys().(*syscall.Stat_t).Ino, info.Size(), info.ModTime()}
}

// get returns a known receipt, if its file is unchanged. The caller may change its fields, but
// not what they refer to.
func (k *known) get(r Ref, info os.FileInfo) *Receipt {
	k.lock.Lock()
	defer k.lock.Unlock()
	if found, is := k.all[r]; is && found.identity == identityOf(info) {
		receipt := found.receipt
		return &receipt
	}
	return nil
}

func (k *known) put(r Ref, info os.FileInfo, receipt *Receipt) {
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.all == nil {
		k.all = map[Ref]knownReceipt{}
	}
	k.all[r] = knownReceipt{identityOf(info), *receipt}
}
