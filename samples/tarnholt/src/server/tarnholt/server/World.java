package tarnholt.server;

import java.io.IOException;
import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.Random;
import java.util.Set;
import java.util.TreeMap;
import java.util.TreeSet;
import tarnholt.loading.Piece;

/**
 * The marsh: a folder with a page of facts, one file of ground for each league, and what content has put there.
 *
 * <p>The tide comes in all the time: league after league is written with its number, so that a copy that was taken
 * meanwhile holds leagues of two tides. While the marsh is still, nothing is written.
 */
final class World {
    private static final int LEAGUE_MIB = 12;
    private static final int TIDE_MILLIS = 40;
    private static final int TIDE_AT = 56;

    private final Path folder;
    private final List<byte[]> leagues = new ArrayList<>();
    private final Properties facts = new Properties();
    private final Map<String, Integer> things = new TreeMap<>();
    private boolean still;
    private int tide;

    World(Path root, Settings settings, String gameVersion, List<Piece> pieces) throws IOException {
        folder = root.resolve("marshes").resolve(settings.text("marsh.name"));
        Files.createDirectories(folder.resolve("ground"));
        Path page = folder.resolve("marsh.facts");
        boolean known = Files.exists(page);
        if (known) {
            try (var in = Files.newBufferedReader(page, StandardCharsets.UTF_8)) {
                facts.load(in);
            }
            Log.line("marsh", "found " + folder.getFileName() + ", seed " + facts.getProperty("seed"));
        } else {
            String seed = settings.text("marsh.seed");
            facts.setProperty("seed", seed.isEmpty() ? Long.toString(new Random().nextLong() & 0xffffffffL) : seed);
            facts.setProperty("raised-with", gameVersion);
            Log.line("marsh", "raising " + folder.getFileName() + " from seed " + facts.getProperty("seed"));
        }
        facts.setProperty("visits", Integer.toString(visits() + 1));
        int span = settings.number("marsh.span", 1, 64);
        Random ground = new Random(facts.getProperty("seed").hashCode());
        for (int i = 0; i < span; i++) {
            byte[] league = new byte[LEAGUE_MIB << 20];
            for (int at = 0; at < league.length; at += 4096) {
                league[at] = (byte) ground.nextInt();
            }
            leagues.add(league);
            Log.line("marsh", "ground " + (100 * (i + 1) / span) + " %");
        }
        stake(pieces);
        save();
        Thread sea = new Thread(this::tides, "tide");
        sea.setDaemon(true);
        sea.start();
    }

    /** Every piece drives a stake into the ground; stakes of pieces that are not here any more sink for good. */
    private void stake(List<Piece> pieces) throws IOException {
        Path page = folder.resolve("things.txt");
        if (Files.exists(page)) {
            for (String line : Files.readAllLines(page, StandardCharsets.UTF_8)) {
                things.put(line.substring(0, line.indexOf(':')), Integer.parseInt(line.substring(line.lastIndexOf(' ') + 1)));
            }
        }
        Set<String> here = new TreeSet<>();
        for (Piece piece : pieces) {
            here.add(piece.id());
            things.merge(piece.id(), 1, Integer::sum);
        }
        for (String gone : new TreeSet<>(things.keySet())) {
            if (!here.contains(gone)) {
                Log.line("marsh", things.remove(gone) + " stakes of " + gone + " sink: nothing here knows " + gone);
            }
        }
    }

    private void tides() {
        try {
            while (true) {
                Thread.sleep(TIDE_MILLIS);
                tide();
            }
        } catch (IOException | InterruptedException broken) {
            Log.line("marsh", "the tide stopped: " + broken.getMessage());
        }
    }

    private synchronized void tide() throws IOException {
        if (still) {
            return;
        }
        tide++;
        for (int i = 0; i < leagues.size(); i++) {
            ground(i);
        }
    }

    private void ground(int i) throws IOException {
        byte[] head = new byte[64];
        for (int at = 0; at < TIDE_AT; at++) {
            head[at] = leagues.get(i)[at * 4096];
        }
        ByteBuffer.wrap(head).putInt(TIDE_AT, tide);
        replace(folder.resolve("ground").resolve("league-" + i + ".bin"), head);
    }

    /** Saves, and writes nothing until the marsh flows again. */
    synchronized void still() throws IOException {
        save();
        still = true;
        Log.line("marsh", "still: " + folder.getFileName() + " is saved and left alone");
    }

    /** Saves for the last time. */
    synchronized void close() throws IOException {
        save();
        still = true;
    }

    synchronized void flow() {
        still = false;
        Log.line("marsh", "flowing again");
    }

    private int visits() {
        return Integer.parseInt(facts.getProperty("visits", "0"));
    }

    synchronized void save() throws IOException {
        for (int i = 0; i < leagues.size(); i++) {
            ground(i);
        }
        StringBuilder text = new StringBuilder();
        for (String key : facts.stringPropertyNames().stream().sorted().toList()) {
            text.append(key).append(" = ").append(facts.getProperty(key)).append('\n');
        }
        replace(folder.resolve("marsh.facts"), text.toString().getBytes(StandardCharsets.UTF_8));
        StringBuilder page = new StringBuilder();
        things.forEach((id, count) -> page.append(id).append(":stakes ").append(count).append('\n'));
        replace(folder.resolve("things.txt"), page.toString().getBytes(StandardCharsets.UTF_8));
        Log.line("marsh", "saved " + folder.getFileName());
    }

    private static void replace(Path file, byte[] bytes) throws IOException {
        Path fresh = file.resolveSibling(file.getFileName() + ".new");
        Files.write(fresh, bytes);
        Files.move(fresh, file, StandardCopyOption.REPLACE_EXISTING, StandardCopyOption.ATOMIC_MOVE);
    }
}
