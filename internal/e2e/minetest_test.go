package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/wire"
)

const minetestProgram = "/usr/games/minetestserver"

// buildingMod is a world mod that builds a block of random stone, makes two
// player accounts and ends the server: a world that somebody has played in,
// made by the real game.
const buildingMod = `
core.register_on_mods_loaded(function()
  core.after(0, function()
    local a, b = {x=-40, y=-8, z=-40}, {x=40, y=24, z=40}
    core.emerge_area(a, b, function(_, _, left)
      if left > 0 then return end
      local vm = core.get_voxel_manip()
      local e1, e2 = vm:read_from_map(a, b)
      local data = vm:get_data()
      local rng, c = PcgRandom(7), {}
       for i, node in ipairs({"default:stone", "default:dirt", "air"}) do c[i] = core.get_content_id(node) end
      for i = 1, #data do data[i] = c[rng:next(1, 3)] end
      vm:set_data(data)
      vm:write_to_map()
      core.remove_player("nobody")
      core.get_auth_handler().create_auth("ada", "x")
      core.get_auth_handler().create_auth("bryn", "x")
      core.after(1, function() core.request_shutdown() end)
    end)
  end)
end)
`

func minetestConfig(t *testing.T, root, world, seed string) {
	t.Helper()
	text := fmt.Sprintf("# the shed\nmap-dir = worlds/%s\nfixed_map_seed = %s\nport = %d\nbind_address = 127.0.0.1\n",
		world, seed, freePort(t))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "worlds"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "minetest.conf"), []byte(text), 0o644))
}

func minetestCommand() []string {
	return []string{minetestProgram, "--config", "minetest.conf", "--gameid", "minetest", "--logfile", "", "--color",
		"never"}
}

// makeMinetestWorld has the real server generate and build a world, and gives
// its folder.
func makeMinetestWorld(t *testing.T, root, name, seed string) string {
	t.Helper()
	minetestConfig(t, root, name, seed)
	dir := filepath.Join(root, "worlds", name)
	mod := filepath.Join(dir, "worldmods", "builder")
	require.NoError(t, os.MkdirAll(mod, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(mod, "mod.conf"), []byte("name = builder\ndepends = default\n"),
		0o644))
	require.NoError(t, os.WriteFile(filepath.Join(mod, "init.lua"), []byte(buildingMod), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "world.mt"),
		[]byte("gameid = minetest\nworld_name = "+name+
			"\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n"),
		0o644))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	args := minetestCommand()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Dir, cmd.Env = root, append(os.Environ(), "HOME="+root)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "worldmods")))
	info, err := os.Stat(filepath.Join(dir, "map.sqlite"))
	require.NoError(t, err, "%s", out)
	require.Greater(t, info.Size(), int64(100_000), "the world was built: %s", out)
	return dir
}

func hashFile(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// A world that Debian's real game server made with one seed is put onto a second
// such server that runs another world with another seed.
func TestARealGameServer(t *testing.T) {
	if _, err := os.Stat(minetestProgram); err != nil {
		t.Fatalf("Debian's minetest-server is not installed: %v", err)
	}
	t.Parallel()
	made := makeMinetestWorld(t, t.TempDir(), "fen garden", "4713582209")
	staged := hashFile(t, filepath.Join(made, "map.sqlite"))

	b := setup(t)
	root := filepath.Join(b.dir, "servers", "shed")
	minetestConfig(t, root, "shed", "1954")
	ctx := context.Background()
	_, err := b.api.AddServer(ctx, wire.NewServer{
		Name:    "shed",
		Game:    "minetest",
		Root:    root,
		Command: minetestCommand(),
	})
	require.NoError(t, err)
	before, err := b.api.StartServer(ctx, "shed", wire.StartServer{NewWorld: true})
	require.NoError(t, err)
	assert.Equal(t, "worlds/shed", before.Server.Opened)
	settings := hashFile(t, filepath.Join(root, "minetest.conf"))

	code, out, errs := b.cli("inspect", made)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "Minetest world")
	assert.Contains(t, out, "4713582209")
	code, _, errs = b.cli("send", made)
	require.Equal(t, 0, code, errs)
	m, err := b.api.Map(ctx, "fen-garden")
	require.NoError(t, err)
	assert.Positive(t, m.Tiles)
	_, _, shown := m.At(world.Point{X: 0, Z: 0})
	assert.True(t, shown, "the builder's platform: %+v", m)
	assert.Negative(t, m.Down, "z grows to the north there")
	b.must("worlds", "picture", "fen-garden", "--marks", "--to", filepath.Join(b.dir, "fen.png"))

	var atStart string
	b.trace = func(point string) {
		if strings.HasSuffix(point, "start intended") && atStart == "" {
			atStart = hashFile(t, filepath.Join(root, "worlds", "fen garden", "map.sqlite"))
		}
	}
	code, out, errs = b.cli("put", "fen-garden", "shed", "--yes")
	require.Equal(t, 0, code, out+errs)
	assert.Equal(t, staged, atStart, "map data is byte-equal to the source at the moment of start")
	assert.Contains(t, out, "✓ the log names the opened world: worlds/fen garden")
	assert.Contains(t, out, "✓ seed in map_meta.txt after the start: 4713582209")
	now, err := b.api.Server(ctx, "shed")
	require.NoError(t, err)
	assert.Equal(t, "worlds/fen garden", now.Server.Opened)
	conf, err := os.ReadFile(filepath.Join(root, "minetest.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), "# the shed\nmap-dir = worlds/fen garden\nfixed_map_seed = 4713582209\n")

	back := b.undo(b.lastChangeover("shed").ID)
	require.Equal(t, plan.Done, back.State, back.Failure)
	now, err = b.api.Server(ctx, "shed")
	require.NoError(t, err)
	assert.Equal(t, "worlds/shed", now.Server.Opened)
	assert.Equal(t, "1954", back.Plan.Expect.Seed)
	assert.Equal(t, settings, hashFile(t, filepath.Join(root, "minetest.conf")))
}

// A setting that leads to another folder of the same name: what would be placed
// is not what would run, and a proof that looked only at the name would be fooled.
func TestASettingThatLeadsElsewhereBlocks(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "shed")
	elsewhere := filepath.Join(b.dir, "elsewhere")
	require.NoError(t, os.MkdirAll(elsewhere, 0o755))
	minetestConfig(t, root, "shed", "1954")
	conf, err := os.ReadFile(filepath.Join(root, "minetest.conf"))
	require.NoError(t, err)
	text := strings.Replace(string(conf), "worlds/shed", elsewhere+"/worlds/shed", 1)
	require.NoError(t, os.WriteFile(filepath.Join(root, "minetest.conf"), []byte(text), 0o644))
	_, err = b.api.AddServer(context.Background(),
		wire.NewServer{Name: "shed", Game: "minetest", Root: root, Command: minetestCommand()})
	require.NoError(t, err)
	fen := filepath.Join(b.dir, "fen")
	require.NoError(t, os.MkdirAll(fen, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(fen, "world.mt"), []byte("gameid = minetest\nworld_name = fen\n"),
		0o644))
	require.NoError(t, os.WriteFile(filepath.Join(fen, "map_meta.txt"), []byte("seed = 5\n[end_of_params]\n"), 0o644))
	code, _, errs := b.cli("send", fen)
	require.Equal(t, 0, code, errs)
	code, out, _ := b.cli("fit", "fen", "shed")
	assert.Equal(t, 3, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "points outside the server's worlds folder")
}
