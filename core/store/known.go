package store

import (
	"os"
	"sync"
	"syscall"
	"time"
)

// known are receipts that were read and seen to be right, each as long as its file is
// the same: one command asks for a receipt several times.
type known struct {
	lock sync.Mutex
	all  map[Ref]knownReceipt
}

type knownReceipt struct {
	identity identity
	receipt  Receipt
}

// identity is by what a file is known again.
type identity struct {
	inode    uint64
	size     int64
	modified time.Time
}

func identityOf(info os.FileInfo) identity {
	return identity{info.Sys().(*syscall.Stat_t).Ino, info.Size(), info.ModTime()}
}

// get returns a receipt that is known, if its file is still the same. What it refers to
// is not to be changed; its own fields are the caller's.
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
