package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
)

// What a cube is set for.
const (
	ForShow = "show"
	ForShot = "shot"
)

// noCube is what a shot has that is looked at without its show's.
const noCube = "none"

// A Cube says through which .cube file a shot is looked at.
type Cube struct {
	Hash string `db:"hash" json:"hash" doc:"SHA-256 of the file; empty for none"`
	Name string `db:"name" json:"name" doc:"Of the file"`
	For  string `db:"for" json:"for" enum:",show,shot" doc:"Whose it is: the show's, or the shot's own, which may be none"`
}

// CubeOf returns through what a shot is looked at; ErrNone if there is no such shot.
func (s *Store) CubeOf(ctx context.Context, shot string) (c Cube, err error) {
	err = s.db.GetContext(ctx, &c, `select
			coalesce(c.hash, '') as hash, coalesce(c.name, '') as name, -- there is no file of the name 'none'
			case when s.cube <> '' then 'shot' when w.cube is not null then 'show' else '' end as for
		from shots s left join show_cubes w on w.show = s.show
			left join cubes c on c.hash = case when s.cube <> '' then s.cube else w.cube end
		where s.id = $1 and s.deleted_at is null`, shot)
	if errors.Is(err, sql.ErrNoRows) {
		return c, ErrNone
	}
	return c, err
}

// SetCube has a shot, or all of its show that have none of their own, looked at through a file.
func (s *Store) SetCube(ctx context.Context, shot, of, name string, data []byte) error {
	sum := sha256.Sum256(data)
	hash := hex.EncodeToString(sum[:])
	_, err := s.db.ExecContext(ctx, `insert into cubes (hash, name, data) values ($1, $2, $3)
		on conflict (hash) do update set created_at = now()`, hash, name, data)
	if err != nil {
		return err
	}
	defer s.forgetCubes(context.WithoutCancel(ctx))
	if of == ForShot {
		return s.touched(ctx, `update shots set cube = $2 where id = $1 and deleted_at is null`, shot, hash)
	}
	err = s.touched(ctx, `insert into show_cubes (show, cube) select show, $2 from shots where id = $1 and deleted_at is null
		on conflict (show) do update set cube = excluded.cube`, shot, hash)
	if err != nil {
		return err
	}
	return s.touched(ctx, `update shots set cube = '' where id = $1`, shot)
}

// DropCube takes the file of a shot away, or that of its show. A shot without one of its own is then looked at
// through its show's, or, if it was, through none.
func (s *Store) DropCube(ctx context.Context, shot, of string) error {
	now, err := s.CubeOf(ctx, shot)
	if err != nil {
		return err
	}
	defer s.forgetCubes(context.WithoutCancel(ctx))
	if of == ForShow {
		_, err := s.db.ExecContext(ctx, `delete from show_cubes where show = (select show from shots where id = $1)`, shot)
		return err
	}
	to := ""
	if now.For == ForShow {
		to = noCube
	}
	return s.touched(ctx, `update shots set cube = $2 where id = $1`, shot, to)
}

// forgetCubes removes files that no shot and no show is looked at through any longer; what is not removed now is next time. One
// that was just sent, and is not set yet, stays.
func (s *Store) forgetCubes(ctx context.Context) {
	_, _ = s.db.ExecContext(ctx, `delete from cubes c where created_at < now() - interval '1 minute'
		and not exists (select from show_cubes w where w.cube = c.hash) and not exists (select from shots s where s.cube = c.hash)`)
}

// CubeFile returns a file by its hash; ErrNone if there is none.
func (s *Store) CubeFile(ctx context.Context, hash string) (data []byte, err error) {
	err = s.db.GetContext(ctx, &data, `select data from cubes where hash = $1`, hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return data, err
}
