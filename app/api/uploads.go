package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/datafolder"
	"jardin/app/media"
)

// An Upload is footage that the browser sends: a folder's stills, or a movie.
type Upload struct {
	ID    string       `json:"id"`
	Path  string       `json:"path" doc:"Once all is there: the material's path"`
	Files []UploadFile `json:"files" nullable:"false"`
}

// An UploadFile is one of its files.
type UploadFile struct {
	Name     string `json:"name"`
	Size     int64  `json:"size" minimum:"0"`
	Received int64  `json:"received,omitempty" doc:"Bytes that are there: sending goes on after them"`
}

// NewUpload says what will be sent.
type NewUpload struct {
	Name  string       `json:"name" minLength:"1" maxLength:"200" doc:"Of the folder or the movie"`
	Files []UploadFile `json:"files" nullable:"false" minItems:"1" maxItems:"100000"`
}

// piece is the most that one request may send of a file.
const piece = 16 << 20

func (s *Server) uploadDir(id string) (string, error) {
	return s.Workspace.Folder.Path(datafolder.Uploads, id)
}

func (s *Server) uploads(api huma.API, router *gin.Engine) {
	huma.Register(api, huma.Operation{
		OperationID: "begin-upload", Method: http.MethodPost, Path: "/api/uploads", MaxBodyBytes: 32 << 20,
		Summary: "Begin to send footage, or go on with what was begun: the same files have the same upload",
	}, func(_ context.Context, in *struct{ Body NewUpload }) (*body[*Upload], error) {
		u, err := s.beginUpload(in.Body)
		return &body[*Upload]{u}, err
	})
	huma.Register(api, huma.Operation{
		OperationID: "drop-upload", Method: http.MethodDelete, Path: "/api/uploads/{id}",
		DefaultStatus: http.StatusNoContent,
		Summary:       "Give up what was sent",
	}, func(_ context.Context, in *struct {
		ID string `path:"id" pattern:"^[0-9a-f]{16}$"`
	}) (*struct{}, error) {
		return nil, asProblem(s.Workspace.Folder.Remove(datafolder.Uploads, in.ID))
	})
	router.PUT("/api/uploads/:id/file", s.receive)
}

func (s *Server) beginUpload(n NewUpload) (*Upload, error) {
	movie := false
	seen := map[string]bool{}
	for _, f := range n.Files {
		switch {
		case f.Name != filepath.Base(f.Name) || strings.ContainsAny(f.Name, "/\\\x00") || strings.HasPrefix(f.Name,
			"."):
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is not a plain file name", f.Name))
		case seen[f.Name]:
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%s is there twice", f.Name))
		case media.IsMovie(f.Name):
			movie = true
		case !media.IsStill(f.Name):
			return nil, huma.Error422UnprocessableEntity(
				fmt.Sprintf("%s is neither a movie nor a numbered still; leave it out", f.Name),
			)
		}
		seen[f.Name] = true
	}
	if movie && len(n.Files) > 1 {
		return nil, huma.Error422UnprocessableEntity("there is a movie among other files; send it by itself")
	}
	described, err := json.Marshal(n)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(described)
	u := &Upload{ID: hex.EncodeToString(sum[:8]), Files: n.Files}
	dir, err := s.uploadDir(u.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, full(err)
	}
	if err := media.WriteFile(dir+".json", described); err != nil {
		return nil, full(err)
	}
	u.Path = dir
	if movie {
		u.Path = filepath.Join(dir, n.Files[0].Name)
	}
	for i := range u.Files {
		f := &u.Files[i]
		f.Received = 0
		if info, err := os.Stat(filepath.Join(dir, f.Name)); err == nil {
			f.Received = info.Size()
		} else if info, err := os.Stat(filepath.Join(dir, f.Name+".part")); err == nil {
			f.Received = info.Size()
		}
	}
	return u, nil
}

// full says what to do when a disk is full.
func full(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		return huma.NewError(
			http.StatusInsufficientStorage,
			"the server's disk is full: clear results or renders there, then go on",
		)
	}
	return asProblem(err)
}

var receiving sync.Map // files that something is being written to

// receive takes a piece of a file, which must begin where what is there ends.
func (s *Server) receive(c *gin.Context) {
	dir, err := s.uploadDir(c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	name := c.Query("name")
	blob, err := os.ReadFile(dir + ".json")
	var n NewUpload
	if err != nil || json.Unmarshal(blob, &n) != nil {
		problem(c, http.StatusNotFound, "there is no such upload; begin it again")
		return
	}
	var file *UploadFile
	for i := range n.Files {
		if n.Files[i].Name == name {
			file = &n.Files[i]
		}
	}
	if file == nil {
		problem(c, http.StatusUnprocessableEntity, fmt.Sprintf("%q does not belong to this upload", name))
		return
	}
	whole := filepath.Join(dir, name)
	if _, busy := receiving.LoadOrStore(whole, true); busy {
		problem(c, http.StatusConflict, name+" is being sent already")
		return
	}
	defer receiving.Delete(whole)
	received := int64(0)
	if info, err := os.Stat(whole); err == nil {
		c.JSON(http.StatusOK, UploadFile{name, file.Size, info.Size()})
		return
	}
	out, err := os.OpenFile(whole+".part", os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err == nil {
		var info os.FileInfo
		if info, err = out.Stat(); err == nil {
			received = info.Size()
		}
	}
	if err != nil {
		refuse(c, full(err))
		return
	}
	if fmt.Sprint(received) != c.Query("offset") {
		out.Close()
		c.JSON(http.StatusConflict, UploadFile{name, file.Size, received})
		return
	}
	k, err := io.Copy(out, http.MaxBytesReader(c.Writer, c.Request.Body, min(piece, file.Size-received)))
	received += k
	if received == file.Size && err == nil {
		err = out.Sync()
	}
	if closing := out.Close(); err == nil {
		err = closing
	}
	var tooMuch *http.MaxBytesError
	switch {
	case errors.As(err, &tooMuch):
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("%s has more bytes than it was said to have, or a piece has more than %d MB", name, piece>>20),
		)
		return
	case err != nil:
		refuse(c, full(err))
		return
	}
	if received == file.Size {
		if err := os.Rename(whole+".part", whole); err != nil {
			refuse(c, err)
			return
		}
	}
	c.JSON(http.StatusOK, UploadFile{name, file.Size, received})
}
