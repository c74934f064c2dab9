package tarnholt.server;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.util.ArrayList;
import java.util.List;
import java.util.Properties;
import java.util.Random;

/** The marsh: a folder with a page of facts and one file of ground for each league. */
final class World {
    private static final int LEAGUE_MIB = 12;

    private final Path folder;
    private final List<byte[]> leagues = new ArrayList<>();
    private final Properties facts = new Properties();

    World(Path root, Settings settings, String gameVersion) throws IOException {
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
        save();
    }

    private int visits() {
        return Integer.parseInt(facts.getProperty("visits", "0"));
    }

    synchronized void save() throws IOException {
        for (int i = 0; i < leagues.size(); i++) {
            byte[] head = new byte[64];
            for (int at = 0; at < head.length; at++) {
                head[at] = leagues.get(i)[at * 4096];
            }
            replace(folder.resolve("ground").resolve("league-" + i + ".bin"), head);
        }
        StringBuilder text = new StringBuilder();
        for (String key : facts.stringPropertyNames().stream().sorted().toList()) {
            text.append(key).append(" = ").append(facts.getProperty(key)).append('\n');
        }
        replace(folder.resolve("marsh.facts"), text.toString().getBytes(StandardCharsets.UTF_8));
        Log.line("marsh", "saved " + folder.getFileName());
    }

    private static void replace(Path file, byte[] bytes) throws IOException {
        Path fresh = file.resolveSibling(file.getFileName() + ".new");
        Files.write(fresh, bytes);
        Files.move(fresh, file, StandardCopyOption.REPLACE_EXISTING, StandardCopyOption.ATOMIC_MOVE);
    }
}
