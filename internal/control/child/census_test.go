package child

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who asks while a look is under way gets the next one, and shares it with all who ask meanwhile: nobody gets an answer
// that was begun before the question.
func TestALookIsNeverOlderThanItsQuestion(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var s shared[int]
		looks, end := 0, make(chan struct{})
		look := func() (int, error) {
			looks++ // one look at a time
			n := looks
			<-end
			return n, nil
		}
		var mu sync.Mutex
		got := map[int]int{} // by question: the look that answered it
		ask := func(question int) {
			go func() {
				n, err := s.ask(context.Background(), look)
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					got[question] = n
				}
			}()
			synctest.Wait()
		}
		ask(1)
		ask(2)
		ask(3)
		end <- struct{}{}
		synctest.Wait()
		assert.Equal(t, map[int]int{1: 1}, got, "two and three came too late for the first look")
		ask(4) // the second look has begun
		end <- struct{}{}
		synctest.Wait()
		assert.Equal(t, map[int]int{1: 1, 2: 2, 3: 2}, got)
		end <- struct{}{}
		synctest.Wait()
		ask(5)
		end <- struct{}{}
		synctest.Wait()
		assert.Equal(t, map[int]int{1: 1, 2: 2, 3: 2, 4: 3, 5: 4}, got)
	})
}

func TestWhoGivesUpDoesNotWaitForALook(t *testing.T) {
	t.Parallel()
	var s shared[int]
	end := make(chan struct{})
	hangs := func() (int, error) { <-end; return 1, nil }
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	_, err := s.ask(ctx, hangs)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	close(end)
	n, err := s.ask(context.Background(), func() (int, error) { return 2, nil })
	require.NoError(t, err)
	assert.Equal(t, 2, n)
}

// A process that has not run since the last look is not read again. Whatever it does is seen at the next one all the
// same.
func TestWhatSleepersDoIsSeenAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	c, err := New(Spec{Command: Command{Args: []string{"game"}, Dir: dir}, State: t.TempDir(), Mark: "m/1"})
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(1, 2))
	type sleeper struct {
		do    func(line string)
		pid   int
		state [2]bool // works in the folder, has a file open there
	}
	sleepers := make([]*sleeper, 6)
	for i := range sleepers {
		cmd := exec.Command("sh", "-s")
		cmd.Dir = "/"
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() })
		said := bufio.NewScanner(out)
		sleepers[i] = &sleeper{pid: cmd.Process.Pid, do: func(line string) {
			_, err := fmt.Fprintf(in, "%s\necho done\n", line)
			require.NoError(t, err)
			require.True(t, said.Scan())
		}}
	}
	file := filepath.Join(dir, "ground")
	for range 150 {
		for range random.IntN(3) {
			s := sleepers[random.IntN(len(sleepers))]
			what := random.IntN(2)
			s.state[what] = !s.state[what]
			s.do(map[[2]int]string{
				{0, 0}: "cd /", {0, 1}: "cd " + dir, {1, 0}: "exec 4>&-", {1, 1}: "exec 4>>" + file,
			}[[2]int{what, map[bool]int{true: 1}[s.state[what]]}])
		}
		others, err := c.Others(context.Background())
		require.NoError(t, err)
		all := strings.Join(append(others.Working, others.Passing...), "\n")
		for _, s := range sleepers {
			named := fmt.Sprintf("(process %d), which ", s.pid)
			switch {
			case s.state[1]:
				require.Contains(t, all, named+"has ground open for writing")
			case s.state[0]:
				require.Contains(t, all, named+"works in this folder")
			default:
				require.NotContains(t, all, named)
			}
		}
	}
}

// A process that sleeps may be moved: the folder that it works in, or a file that it writes, comes into the server's
// folder or leaves it by somebody else's rename.
func TestSleepersThatAreMovedAreSeen(t *testing.T) {
	t.Parallel()
	outside, dir := t.TempDir(), t.TempDir()
	c, err := New(Spec{Command: Command{Args: []string{"game"}, Dir: dir}, State: t.TempDir(), Mark: "m/1"})
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(outside, "world"), 0o755))
	cmd := exec.Command("sh", "-c", "exec 4>ground; exec sleep 60")
	cmd.Dir = filepath.Join(outside, "world")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	seen := func() string {
		others, err := c.Others(context.Background())
		require.NoError(t, err)
		return strings.Join(others.Working, "\n")
	}
	name := fmt.Sprintf("(process %d)", cmd.Process.Pid)
	require.Eventually(t, func() bool {
		line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", cmd.Process.Pid))
		return err == nil && strings.HasPrefix(string(line), "sleep")
	}, 5*time.Second, time.Millisecond)
	for range 3 {
		require.NotContains(t, seen(), name)
	}
	require.NoError(t, os.Rename(filepath.Join(outside, "world"), filepath.Join(dir, "world")))
	require.Contains(t, seen(), "sleep "+name+", which has ground open for writing")
	require.NoError(t, os.Rename(filepath.Join(dir, "world"), filepath.Join(outside, "world")))
	require.NotContains(t, seen(), name)
	require.NoError(t, os.Rename(filepath.Join(outside, "world", "ground"), filepath.Join(dir, "ground")))
	require.Contains(t, seen(), "sleep "+name+", which has ground open for writing")
}
