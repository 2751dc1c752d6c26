package main
import ("fmt"; _ "github.com/spf13/cobra"; _ "modernc.org/sqlite"; _ "github.com/klauspost/compress/zstd"; _ "github.com/pelletier/go-toml/v2"; _ "github.com/fatih/color"; _ "github.com/schollz/progressbar/v3"; _ "github.com/bmatcuk/doublestar/v4"; _ "net/http"; _ "archive/zip"; _ "github.com/mattn/go-runewidth"; _ "golang.org/x/term")
func main(){fmt.Println("hi")}
