package seal

import (
	"context"
	"os"
	"path/filepath"
	"testing"
)

// What a room costs, with one command in it and with three.
func BenchmarkRooms(b *testing.B) {
	for _, level := range Levels {
		for _, commands := range []int{1, 3} {
			b.Run(string(level)+map[int]string{1: "", 3: " and three commands"}[commands], func(b *testing.B) {
				user, done, err := buildUsers.Lend(context.Background(), User{})
				if err != nil {
					b.Skip(err)
				}
				defer done()
				base := b.TempDir()
				for dir := base; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
					os.Chmod(dir, 0o755)
				}
				null, _ := os.OpenFile(os.DevNull, os.O_RDWR, 0)
				defer null.Close()
				for b.Loop() {
					s, err := Room{Level: level, Point: base, User: user}.Enter("x")
					if err != nil {
						b.Skip(err)
					}
					for range commands {
						s.Run(Command{File: "/bin/true", Argv: []string{"true"}, Dir: "/", Output: null})
					}
					s.Leave()
				}
			})
		}
	}
}

func BenchmarkLend(b *testing.B) {
	for b.Loop() {
		_, done, err := buildUsers.Lend(context.Background(), User{})
		if err != nil {
			b.Skip(err)
		}
		done()
	}
}
