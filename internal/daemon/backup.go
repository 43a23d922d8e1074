package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"wexillum.example/internal/backup"
	"wexillum.example/internal/cli"
	"wexillum.example/internal/forgotten"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// onDatabase is who changes by a command on the database itself.
const onDatabase = "(database)"

// backupEnd is how the name of a backup ends, and halfEnd that of one that is being written.
const (
	backupStart = "wexillum-"
	backupEnd   = ".sql.zst.age"
	halfEnd     = ".half"
)

// counting counts bytes on their way.
type counting struct {
	io.Writer
	n int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	c.n += int64(n)
	return n, err
}

// progress says how far something is, once a second, where somebody looks.
func (a *app) progress(format string) func(n int64) {
	last := time.Now()
	return func(n int64) {
		if time.Since(last) >= time.Second {
			last = time.Now()
			fmt.Fprintf(a.Err(), format+"\n", n)
		}
	}
}

func (a *app) backup() *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "backup",
		Short: cli.About("backup"),
		Long: cli.About("backup") +
			".\n\nEverything is in it: policy and inventory with their history, the journal, accounts, mail that waits, keys. It is\n" +
			"encrypted to the public half of a key, so that the machine that makes backups cannot read them. The database is named\n" +
			"in the file of settings (--config) or in WEXILLUM_DATABASE; nobody waits while it is read.",
		Example: "  wexillum backup key /media/vault/backup.key\n  wexillum backup --config /etc/wexillum/wexillum.yaml\n  wexillum backup verify /var/backups/wexillum/….age --key /media/vault/backup.key",
		Args:    cobra.NoArgs,
	}
	read := configure(c, "database", "backup_dir", "backup_to", "backup_keep")
	c.Flags().StringVar(&to, "file", "", "write this file and take none away; - is the standard output")
	c.RunE = func(c *cobra.Command, _ []string) error {
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		dsn, dir := cfg["database"].Value, cfg["backup_dir"].Value
		switch {
		case dsn == "":
			return usage(errors.New("no database is named: set database in --config, or WEXILLUM_DATABASE"))
		case dir == "" && to == "":
			return usage(errors.New("backup_dir is needed, the folder that backups are written into; or --file"))
		}
		who, err := backup.Recipients(cfg["backup_to"].Value)
		if err != nil {
			return usage(fmt.Errorf("backup_to: %w", err))
		}
		if len(who) == 0 {
			return usage(errors.New("backup_to is needed, the public half of the key that backups are encrypted to; wexillum backup key makes one"))
		}
		ctx := c.Context()
		st, err := store.Open(ctx, dsn, nil)
		if err != nil {
			return err
		}
		defer st.Close()
		if to == "-" {
			_, err := backup.Make(ctx, st, dsn, who, a.Out(), nil)
			return err
		}
		keep, _ := strconv.Atoi(cfg["backup_keep"].Value)
		begun := time.Now()
		m, path, size, err := a.writeBackup(ctx, st, dsn, who, dir, to)
		if err != nil {
			return err
		}
		note := store.BackedUp{File: filepath.Base(path), At: m.At.Format(time.RFC3339), Seq: m.Seq, Bytes: size, Rows: m.Rows}
		if err := st.NoteBackup(ctx, onDatabase, note); err != nil {
			return fmt.Errorf("%s is written, and the journal cannot say so: %w", path, err)
		}
		var gone []string
		if to == "" {
			if gone, err = retain(dir, keep); err != nil {
				return err
			}
		}
		a.Say("%s is written: %d rows of %d tables, %s, up to journal entry %d, in %.1f s.", path, m.Rows, m.Tables, sized(size), m.Seq,
			time.Since(begun).Seconds())
		for _, g := range gone {
			a.Say("%s is taken away: %d stay.", g, keep)
		}
		return nil
	}
	c.AddCommand(a.backupKey(), a.backupVerify(), a.backupList())
	return c
}

func sized(n int64) string {
	switch {
	case n >= 10<<20:
		return fmt.Sprintf("%d MB", n>>20)
	case n >= 10<<10:
		return fmt.Sprintf("%d kB", n>>10)
	}
	return fmt.Sprintf("%d bytes", n)
}

// writeBackup writes a backup beside where it goes, and has it there once it is whole and on the disk.
func (a *app) writeBackup(ctx context.Context, st *store.Store, dsn string, who []age.Recipient, dir, to string) (m backup.Made,
	path string, size int64, err error) {
	if to == "" {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return m, "", 0, err
		}
		to = filepath.Join(dir, backupStart+time.Now().UTC().Format("20060102T150405Z")+backupEnd)
	}
	f, err := os.OpenFile(to+halfEnd, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return m, "", 0, err
	}
	defer os.Remove(to + halfEnd)
	out := &counting{Writer: f}
	m, err = backup.Make(ctx, st, dsn, who, out, a.progress("%d rows so far"))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return m, "", 0, fmt.Errorf("no backup was made: %w", err)
	}
	if err := os.Rename(to+halfEnd, to); err != nil {
		return m, "", 0, err
	}
	d, err := os.Open(filepath.Dir(to))
	if err != nil {
		return m, "", 0, err
	}
	defer d.Close()
	return m, to, out.n, d.Sync() // so that the name stays after a crash, too
}

// backups lists the backups in a folder, the oldest first.
func backups(dir string) (out []string, err error) {
	list, err := filepath.Glob(filepath.Join(dir, backupStart+"*"+backupEnd))
	slices.Sort(list)
	return list, err
}

// retain takes away all but the newest backups of a folder.
func retain(dir string, keep int) (gone []string, err error) {
	list, err := backups(dir)
	if err != nil {
		return nil, err
	}
	for _, path := range list[:max(0, len(list)-keep)] {
		if err := os.Remove(path); err != nil {
			return gone, err
		}
		gone = append(gone, path)
	}
	return gone, nil
}

func (a *app) backupKey() *cobra.Command {
	return &cobra.Command{
		Use:   "key FILE",
		Short: "Make the key that opens backups: the private half into a file, the public half for backup_to",
		Long: "Make the key that opens backups. Its private half goes into the file: keep that apart from the machines that make backups,\n" +
			"and a copy of it elsewhere; without it no backup can be read. The public half is for backup_to.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return err
			}
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if errors.Is(err, os.ErrExist) {
				return fmt.Errorf("%s is there already: name another file; whoever has the old one opens the old backups", args[0])
			}
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(f, "# opens backups of Wexillum; public half: %s\n%s\n", id.Recipient(), id)
			if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
				return err
			}
			a.Say("The private half is in %s: keep it apart from the machines that make backups, with a copy elsewhere.", args[0])
			a.Printf("backup_to: %s\n", id.Recipient())
			return nil
		},
	}
}

func (a *app) backupList() *cobra.Command {
	c := &cobra.Command{Use: "list", Short: "The backups in the folder, the newest first", Args: cobra.NoArgs}
	read := configure(c, "database", "backup_dir")
	c.RunE = func(c *cobra.Command, _ []string) error {
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		dir := cfg["backup_dir"].Value
		if dir == "" {
			return usage(errors.New("backup_dir is needed"))
		}
		list, err := backups(dir)
		if err != nil {
			return err
		}
		type line struct {
			File  string `json:"file"`
			Bytes int64  `json:"bytes"`
			Made  string `json:"made"`
		}
		data, rows := []line{}, [][]string{}
		for _, path := range slices.Backward(list) {
			st, err := os.Stat(path)
			if err != nil {
				return err
			}
			made := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(path), backupStart), backupEnd)
			at, err := time.Parse("20060102T150405Z", made)
			if err != nil {
				continue
			}
			data = append(data, line{path, st.Size(), at.Format(time.RFC3339)})
			rows = append(rows, []string{path, sized(st.Size()), at.Format(time.RFC3339)})
		}
		return a.Records(data, []string{"file", "size", "made"}, rows)
	}
	return c
}

// opened opens a backup with the keys in a file.
func opened(path, key string) (*backup.Lines, func(), error) {
	if key == "" {
		return nil, nil, usage(errors.New("--key is needed, the file with the private half of the key that the backup is encrypted to"))
	}
	ids, err := backup.Identities(key)
	if err != nil {
		return nil, nil, err
	}
	in := os.Stdin
	if path != "-" {
		if in, err = os.Open(path); err != nil {
			return nil, nil, err
		}
	}
	l, err := backup.Open(in, ids)
	if err != nil {
		_ = in.Close()
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, func() { l.Close(); _ = in.Close() }, nil
}

func (a *app) backupVerify() *cobra.Command {
	var key, dsn string
	c := &cobra.Command{
		Use:   "verify FILE",
		Short: "Bring a backup back beside, and check its rows, the journal and a thousand answers",
		Long: "Bring a backup back beside, and check its rows, the seals of the journal and a thousand answers, which were noted when it was made.\n" +
			"It needs a database server on this machine (Debian's mariadb-server-core), which it starts for itself and takes away\n" +
			"again, or an empty database. It exits with 3 where something is otherwise.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			l, done, err := opened(args[0], key)
			if err != nil {
				return err
			}
			defer done()
			ctx := c.Context()
			if dsn == "" {
				dir, err := os.MkdirTemp("", "wexillum-verify-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir)
				db, err := mariadb.Start(ctx, filepath.Join(dir, "db"))
				if err != nil {
					return fmt.Errorf("%w\nor name an empty database with --database", err)
				}
				defer func() { _ = db.Stop() }()
				if err := db.Create(ctx, "verify"); err != nil {
					return err
				}
				dsn = db.DSN("verify")
			}
			v, err := a.bringBack(ctx, dsn, l, false)
			if err != nil {
				return err
			}
			journal := fmt.Sprintf("hold, all %d entries", v.Journal)
			if v.Broken != "" {
				journal = "▼ do not hold: " + v.Broken
			}
			answers := fmt.Sprintf("%d, as when it was made", v.Asked)
			switch {
			case v.Broken != "":
				answers = "not asked"
			case v.Other > 0:
				answers = fmt.Sprintf("▼ %d of %d otherwise than when it was made; the first: %s", v.Other, v.Asked, v.First)
			}
			if err := a.Records(v, []string{"what", "found"}, [][]string{
				{"backup of", fmt.Sprintf("%s, schema %d, up to journal entry %d", v.At.Format(time.RFC3339), v.Schema, v.Seq)},
				{"rows", fmt.Sprintf("%d in %d tables, as it says", v.Rows, v.Tables)},
				{"seals of the journal", journal},
				{"answers", answers},
			}); err != nil {
				return err
			}
			if !v.Whole() {
				return cli.Found()
			}
			return nil
		},
	}
	c.Flags().StringVar(&key, "key", "", "file with the private half of the key")
	c.Flags().StringVar(&dsn, "database", "", "an empty database to bring it back to; stays as it is then")
	return c
}

// bringBack brings a backup back, brings the schema up to date, and holds it against what the backup says.
func (a *app) bringBack(ctx context.Context, dsn string, l *backup.Lines, again bool) (v backup.Verified, err error) {
	t, err := backup.Restore(ctx, dsn, l, again, a.progress("%d bytes of statements so far"))
	if err != nil {
		return v, err
	}
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		return v, err
	}
	defer st.Close()
	if err := st.MigrateRestored(ctx); err != nil {
		return v, err
	}
	return backup.Check(ctx, st, l.Header, t)
}

func (a *app) restore() *cobra.Command {
	var key, why string
	var lists []string
	var again, hold, finish, noMail, endTokens bool
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: cli.About("restore"),
		Long: cli.About("restore") + ", and check it as backup verify does.\n\n" +
			"Nobody is signed in afterwards. What happened after the backup is not in it: accounts that were disabled, tokens that\n" +
			"were ended and passwords that were changed since count as before. Mail that waited goes out again (--no-mail drops it).\n" +
			"Who was forgotten since is forgotten again where --forgotten names the list that forgotten_list kept.\n\n" +
			"With --hold it stops before anything of it counts: run the binary log of the database after it then, and --finish.",
		Example: "  wexillum restore wexillum-20261130T020000Z.sql.zst.age --key backup.key --config /etc/wexillum/wexillum.yaml --why \"the disk failed\"",
		Args:    cobra.MaximumNArgs(1),
	}
	read := configure(c, "database")
	f := c.Flags()
	f.StringVar(&key, "key", "", "file with the private half of the key")
	f.StringVar(&why, "why", "", "the reason that the journal keeps")
	f.StringArrayVar(&lists, "forgotten", nil, "a list that forgotten_list kept; once for each")
	f.BoolVar(&again, "again", false, "take away what a restore that broke off left, and begin again")
	f.BoolVar(&hold, "hold", false, "stop before it counts, so that the database's own log can be run after it")
	f.BoolVar(&finish, "finish", false, "go on where --hold stopped; no FILE")
	f.BoolVar(&noMail, "no-mail", false, "drop the mail that waited: what of it was sent after the backup is not sent twice")
	f.BoolVar(&endTokens, "end-tokens", false, "end every token of services: those ended after the backup count no more")
	c.RunE = func(c *cobra.Command, args []string) error {
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		dsn := cfg["database"].Value
		switch {
		case dsn == "":
			return usage(errors.New("no database is named: set database in --config, or WEXILLUM_DATABASE"))
		case finish != (len(args) == 0):
			return usage(errors.New("name the file, or --finish for what --hold stopped"))
		case !hold && strings.TrimSpace(why) == "":
			return usage(errors.New("--why is needed: the journal keeps it"))
		}
		l, err := forgotten.Read(lists...)
		if err != nil {
			return usage(err)
		}
		ctx := c.Context()
		if !finish {
			if err := a.restoreFile(ctx, dsn, args[0], key, again); err != nil {
				return err
			}
		}
		if hold {
			a.Say("It waits: no service starts on it. Run the database's log after it, then wexillum restore --finish --why ….")
			return nil
		}
		return a.finishRestore(ctx, dsn, why, store.Restored{NoMail: noMail, Ended: endTokens}, l)
	}
	return c
}

func (a *app) restoreFile(ctx context.Context, dsn, path, key string, again bool) error {
	lines, done, err := opened(path, key)
	if err != nil {
		return err
	}
	defer done()
	v, err := a.bringBack(ctx, dsn, lines, again)
	if err != nil {
		return err
	}
	if !v.Whole() {
		return fmt.Errorf("the backup is not what it should be, and no service starts on what is there now: the journal %q, %d of %d questions answered otherwise",
			v.Broken, v.Other, v.Asked)
	}
	a.Say("%d rows in %d tables are back, of %s, up to journal entry %d; the journal holds, %d questions are answered as then.", v.Rows,
		v.Tables, v.At.Format(time.RFC3339), v.Seq, v.Asked)
	if v.LogFile != "" {
		a.Say("The log of the database goes on from %s, position %d.", v.LogFile, v.LogAt)
	}
	return nil
}

// finishRestore lets a database count to which a backup was brought back.
func (a *app) finishRestore(ctx context.Context, dsn, why string, r store.Restored, l *forgotten.List) error {
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		return err
	}
	defer st.Close()
	if r.At, err = st.Unrestored(ctx); err != nil {
		return err
	}
	if r.At == "" {
		return errors.New("there is nothing to finish: no backup is being brought back to this database")
	}
	if err := st.MigrateRestored(ctx); err != nil {
		return err
	}
	if n, broken, err := st.VerifyJournal(ctx); err != nil {
		return err
	} else if broken != nil {
		return fmt.Errorf("the journal does not hold behind its first %d entries: %s; no service starts on this database", n, broken.Reason)
	}
	// Whom to forget is done before anybody can see them.
	svc, err := service.New(ctx, st, time.Now, a.logger("warn"))
	if err != nil {
		return err
	}
	if r.Forgot, err = svc.ForgetAgain(ctx, l); err != nil {
		return err
	}
	if r, err = st.EndRestore(ctx, onDatabase, why, r); err != nil {
		return err
	}
	counted := func(n int, one, many string) string {
		if n == 1 {
			return "1 " + one
		}
		return fmt.Sprintf("%d %s", n, many)
	}
	a.Say("Done. Nobody is signed in (%s before).", counted(r.Signed, "session or client was", "sessions and clients were"))
	mail := "goes out once a service starts"
	if r.NoMail {
		mail = "is dropped"
	}
	a.Say("Mail that waited %s: %s.", mail, counted(r.Mail, "message", "messages"))
	tokens := "count again, those too that were ended after it; look over wexillum token list"
	if r.Ended {
		tokens = "are ended"
	}
	a.Say("Tokens of services %s: %d.", tokens, r.Tokens)
	a.Say("Forgotten again: %s.", counted(r.Forgot, "person", "people"))
	a.Say("Accounts that were disabled and passwords that were changed after it are as before: look over wexillum account list.")
	return nil
}
