package classfile

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// compiled are the classes that the compiler makes of a source; the test is skipped where there is none.
func compiled(t testing.TB, release, name, source string) map[string][]byte {
	t.Helper()
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name+".java"), []byte(source), 0o644))
	out, err := exec.Command("javac", "--release", release, "-d", dir, filepath.Join(dir, name+".java")).CombinedOutput()
	require.NoError(t, err, string(out))
	files, err := filepath.Glob(filepath.Join(dir, "pier", "*.class"))
	require.NoError(t, err)
	all := map[string][]byte{}
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		all[filepath.Base(file)] = data
	}
	return all
}

const source = `package pier;
import java.util.function.Function;
public class Quay extends Base implements Runnable {
  public static final long DEPTH = 42L;
  protected int berths;
  private String secret;
  public void run() { Function<Ship, String[]> f = Ship::names; other.far(2.5); f.apply(null); }
  static Other other;
  public Ship[][] ships(int n, String name) { return new Ship[n][]; }
}
class Base { void moor(Ship s) {} }
class Ship { String[] names() { return null; } }
class Other { int far(double d) { return 1; } }
`

func TestRead(t *testing.T) {
	classes := compiled(t, "11", "Quay", source)
	c, err := Read(classes["Quay.class"])
	require.NoError(t, err)
	assert.Equal(t, "pier/Quay", c.Name)
	assert.Equal(t, "pier/Base", c.Super)
	assert.Equal(t, []string{"java/lang/Runnable"}, c.Interfaces)
	assert.Equal(t, 11, c.Java())
	assert.Contains(t, c.Declares, Member{Name: "berths", Descriptor: "I", Field: true})
	assert.Contains(t, c.Declares, Member{Name: "ships", Descriptor: "(ILjava/lang/String;)[[Lpier/Ship;"})
	assert.NotContains(t, c.Declares, Member{Name: "secret", Descriptor: "Ljava/lang/String;", Field: true})
	assert.Contains(t, c.Refers, Member{Owner: "pier/Other", Name: "far", Descriptor: "(D)I"})
	assert.Contains(t, c.Refers, Member{Owner: "pier/Ship", Name: "names", Descriptor: "()[Ljava/lang/String;"})
	assert.Contains(t, c.Classes, "pier/Ship")
	assert.NotContains(t, c.Classes, "pier/Quay")
	for n := range classes["Quay.class"] {
		_, err := Read(classes["Quay.class"][:n])
		if n < 200 {
			assert.Error(t, err)
		}
	}
	_, err = Read([]byte("PK\x03\x04 this is an archive"))
	assert.EqualError(t, err, "it is no class file")
}

// FuzzRead sees that no bytes stop the reader.
func FuzzRead(f *testing.F) {
	f.Add([]byte("\xca\xfe\xba\xbe\x00\x00\x00\x37\x00\x03\x07\x00\x02\x01\x00\x01A\x00\x21\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := Read(data)
		if err == nil {
			require.NotEmpty(t, c.Name)
		}
	})
}
