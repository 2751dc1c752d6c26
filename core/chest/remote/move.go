package remote

import (
	"context"
	"os"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/wire"
)

// Arrived is what came of bringing a chest to a server.
type Arrived struct {
	Bytes  int64
	People []wire.NamedPerson
}

// Bring brings a chest in a folder to a server, as a project. Its ids stay. What is in the folder goes when the server has
// looked at every byte of it there. Nobody can write meanwhile.
func Bring(ctx context.Context, f *local.Folder, at Address, who Signed, progress func(what string, done, total int)) (a Arrived,
	err error) {
	calls, err := NewCaller(at.Server, who)
	if err != nil {
		return a, err
	}
	defer calls.Close()
	move := wire.Move{Name: at.Project}
	if err := calls.AskOnce(ctx, wire.API+"/"+wire.CallMoves+"/begin", move, &move); err != nil {
		return a, chest.Explain(err)
	}
	send := func(name string, file *os.File, size int64) error {
		call := wire.API + "/" + wire.CallMoves + "/" + move.ID + "/files/" + strings.ReplaceAll(name, "/", "-")
		return calls.send(ctx, call, file, size)
	}
	a.Bytes, err = f.MoveAfar(ctx, at.String(), send, func() error {
		var said wire.Arrived
		err := calls.followBody(ctx, wire.API+"/"+wire.CallMoves+"/end", move, &said, progress)
		a.People = said.People
		return err
	}, progress)
	return a, err
}
