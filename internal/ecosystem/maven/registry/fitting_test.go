package registry

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestFitting sees what is meant by a newer version of what is in use.
func TestFitting(t *testing.T) {
	for _, c := range []struct {
		inUse      string
		list, want []string
	}{
		{"28.0-jre", []string{"28.0-android", "28.0-jre", "33.0-android", "33.0-jre"}, []string{"28.0-jre", "33.0-jre"}},
		{"2.6", []string{"2.6", "2.7", "20030203.000550"}, []string{"2.6", "2.7"}},
		{"20090211", []string{"20090211", "20230618", "20240303"}, []string{"20090211", "20230618", "20240303"}},
		{"1.3.9", []string{"1.3.9", "1.3.9-native-mt-2", "1.4.0-RC1", "1.4.0"}, []string{"1.3.9", "1.4.0-RC1", "1.4.0"}},
		{"5.4.20.Final", []string{"5.4.20.Final", "5.5.0.GA", "6.0.0"}, []string{"5.4.20.Final", "5.5.0.GA", "6.0.0"}},
		{"9.4.1.jre8", []string{"9.4.1.jre11", "9.4.1.jre8", "12.0.0.jre11", "12.0.0.jre8"}, []string{"9.4.1.jre8", "12.0.0.jre8"}},
		{"2.0.0-RC1", []string{"2.0.0-RC1", "2.0.0-x", "2.0.0"}, []string{"2.0.0-RC1", "2.0.0-x", "2.0.0"}},
		{"", []string{"1.0-jre", "1.0"}, []string{"1.0-jre", "1.0"}},
	} {
		assert.Equal(t, c.want, fitting(c.list, c.inUse), c.inUse)
	}
}
