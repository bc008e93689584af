package sandbox

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// The cost of a room, with one command and with three.
func BenchmarkRooms(b *testing.B) {
	for _, level := range Levels {
		for _, commands := range []int{1, 3} {
			b.Run(string(level)+map[int]string{1: "", 3: " and three commands"}[commands], func(b *testing.B) {
				user, done, err := buildUsers.Lend(context.Background(), User{}, "")
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

// The cost of hiding 3,000 files of the system.
func BenchmarkBareRoom(b *testing.B) {
	var hidden []string
	for i := range 3000 {
		hidden = append(hidden, fmt.Sprintf("/usr/include/d%d/f%d", i/50, i))
	}
	for _, how := range []string{"all", "hidden", "layer"} {
		b.Run(how, func(b *testing.B) {
			user, done, err := buildUsers.Lend(context.Background(), User{}, "")
			if err != nil {
				b.Skip(err)
			}
			defer done()
			r := Room{Level: Sealed, Point: b.TempDir(), User: user}
			switch how {
			case "hidden":
				r.Hidden = hidden
			case "layer":
				if r.Layer = b.TempDir(); whiteouts(r.Layer, hidden) != nil {
					b.Skip("the file system cannot have whiteouts")
				}
			}
			for b.Loop() {
				s, err := r.Enter("x")
				if err != nil {
					b.Skip(err)
				}
				s.Leave()
			}
		})
	}
}

func BenchmarkLend(b *testing.B) {
	for b.Loop() {
		_, done, err := buildUsers.Lend(context.Background(), User{}, "")
		if err != nil {
			b.Skip(err)
		}
		done()
	}
}
