package main

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// orm is somebody's program with an object-relational mapper that keeps its own migrations.
type orm struct {
	t      *testing.T
	dir    string
	engine string
}

const ormSettings = `import os
SECRET_KEY = 'x'
INSTALLED_APPS = ['bay']
DEFAULT_AUTO_FIELD = 'django.db.models.BigAutoField'
USE_TZ = True
DATABASES = {'default': {'ENGINE': os.environ['BAY_ENGINE'], 'NAME': os.environ['BAY_NAME'], 'USER': os.environ['BAY_USER'], 'HOST': os.environ['BAY_HOST'], 'PORT': os.environ['BAY_PORT']}}
`

const ormFirst = `from django.db import models
class Keeper(models.Model):
    name = models.CharField(max_length=60)
class Tank(models.Model):
    code = models.CharField(max_length=20, unique=True)
    litres = models.IntegerField(default=0)
    keeper = models.ForeignKey(Keeper, on_delete=models.CASCADE)
`

const ormSecond = `from django.db import models
class Keeper(models.Model):
    given = models.CharField(max_length=60, default='')
    family = models.CharField(max_length=60, default='')
class Tank(models.Model):
    label = models.CharField(max_length=20, unique=True)
    litres = models.IntegerField(default=0)
    keeper = models.ForeignKey(Keeper, on_delete=models.CASCADE)
class Meal(models.Model):
    tank = models.ForeignKey(Tank, on_delete=models.CASCADE)
    grams = models.DecimalField(max_digits=6, decimal_places=2)
`

const ormNames = `from django.db import migrations, models
def split(apps, editor):
    for k in apps.get_model('bay', 'Keeper').objects.all():
        k.given, k.family = k.name.split(' ', 1)
        k.save()
class Migration(migrations.Migration):
    dependencies = [('bay', '0001_initial')]
    operations = [
        migrations.AddField('Keeper', 'given', models.CharField(max_length=60, default='')),
        migrations.AddField('Keeper', 'family', models.CharField(max_length=60, default='')),
        migrations.RunPython(split),
        migrations.RemoveField('Keeper', 'name'),
        migrations.RenameField('Tank', 'code', 'label'),
    ]
`

func newORM(t *testing.T, engine string) *orm {
	t.Helper()
	if err := exec.Command("/usr/bin/python3", "-c", "import django, psycopg2, MySQLdb").Run(); err != nil {
		t.Skip("no object-relational mapper: install python3-django, python3-psycopg2 and python3-mysqldb")
	}
	o := &orm{t, t.TempDir(), engine}
	o.write("settings.py", ormSettings)
	o.write("bay/__init__.py", "")
	o.write("bay/migrations/__init__.py", "")
	o.write("bay/models.py", ormFirst)
	return o
}

func (o *orm) write(name, text string) {
	o.t.Helper()
	file := filepath.Join(o.dir, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
		o.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o666); err != nil {
		o.t.Fatal(err)
	}
}

// run lets the mapper do something in a database.
func (o *orm) run(target string, args ...string) string {
	o.t.Helper()
	u, err := url.Parse(target)
	if err != nil {
		o.t.Fatal(err)
	}
	engine := "django.db.backends.postgresql"
	if o.engine == "mysql" {
		engine = "django.db.backends.mysql"
	}
	cmd := exec.Command("/usr/bin/python3", append([]string{"-m", "django"}, args...)...)
	cmd.Dir = o.dir
	cmd.Env = append(os.Environ(), "PYTHONPATH="+o.dir, "PYTHONDONTWRITEBYTECODE=1", "PYTHONWARNINGS=ignore",
		"DJANGO_SETTINGS_MODULE=settings",
		"BAY_ENGINE="+engine, "BAY_NAME="+strings.Trim(u.Path, "/"), "BAY_USER="+u.User.Username(), "BAY_HOST="+u.Hostname(),
		"BAY_PORT="+u.Port())
	out, err := cmd.CombinedOutput()
	if err != nil {
		o.t.Fatalf("the mapper, %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// TestAnORMsLife lets people go on with the mapper that they have: it makes the tables, on a
// branch with its own database its models are renamed, split and added, and what it did there
// goes to a database with rows. Every row survives, and the mapper finds nothing to migrate.
func TestAnORMsLife(t *testing.T) {
	for _, s := range []server{postgresServer(t), mariadbServer(t)} {
		t.Run(s.engine, func(t *testing.T) {
			o, p := newORM(t, s.engine), empty(t)
			dev, live := s.target(s.database(t)), s.database(t)
			o.run(dev, "makemigrations", "bay")
			o.run(dev, "migrate")
			p.ok("begin")
			p.ok("env", "add", "dev", dev)
			p.ok("env", "add", "live", s.target(live))
			p.ok("capture", "dev", "--commit", "-m", "As the mapper made it")
			p.ok("rows", "track", "django_migrations", "--from", "dev")
			p.ok("commit", "-m", "Which migrations ran")
			p.ok("deploy", "live", "--yes")
			s.run(t, live, "insert into bay_keeper (name) values ('Ada Reef'), ('Cy de Bay'), ('Di Cove'); insert into bay_tank (code, "+
				"litres, keeper_id) values ('T1', 10, 1), ('T2', 20, 2), ('T3', 5, 2);")
			p.says(o.run(s.target(live), "migrate"), "No migrations to apply")

			names := live + "_names"
			p.ok("branch", "names", "--env", s.target(names))
			t.Cleanup(func() { s.run(t, live, "drop database "+names) })
			p.ok("go", "names")
			o.write("bay/models.py", ormSecond)
			o.write("bay/migrations/0002_names.py", ormNames)
			o.run(s.target(names), "makemigrations", "bay")
			o.run(s.target(names), "migrate")
			p.says(p.ok("capture", "names"), "In table bay_tank", "label")
			folder, file := folderOf(p, "bay_tank")
			if text := p.read(file); s.engine == "mysql" { // which it can't be sure of there
				p.write(file, strings.Replace(text, "  label varchar(20) not null,", "  label varchar(20) not null, -- formerly: code", 1))
			}
			split, join := splitting(dev)
			p.write(folder+"data-steps/0002-names.sql",
				"update bay_keeper set given = "+split+";\n-- check:\nselect id from bay_keeper where family = '';\n-- back:\n"+
					"update bay_keeper set name = "+join+";\n")
			p.ok("commit", "-m", "Names in two parts, labels, meals")
			p.ok("go", "main")
			p.ok("merge", "names")
			p.ok("deploy", "live", "--yes", "--allow-loss")
			p.ok("verify", "main", "env:live")
			p.says(o.run(s.target(live), "migrate"), "No migrations to apply")
			p.says(o.run(s.target(live), "makemigrations", "--check", "--dry-run"), "No changes detected")
			out := o.run(s.target(live), "shell", "-c",
				"from bay.models import *\n"+
					"for k in Keeper.objects.order_by('id'): print(k.id, k.given, '/', k.family, [(t.label, t.litres) for t in "+
					"k.tank_set.order_by('id')])\n"+
					"print(Meal.objects.create(tank=Tank.objects.get(label='T3'), grams='1.25').tank.keeper.family)")
			p.says(out, "1 Ada / Reef [('T1', 10)]", "2 Cy / de Bay [('T2', 20), ('T3', 5)]", "3 Di / Cove []")
			p.ok("rollback", "live", "--yes", "--allow-loss")
			run := func(text string) { s.run(t, live, text) }
			rowsAre(run, "bay_keeper", "name", "Ada Reef", "Cy de Bay", "Di Cove")
			rowsAre(run, "bay_tank", "code", "T1", "T2", "T3")
		})
	}
}
