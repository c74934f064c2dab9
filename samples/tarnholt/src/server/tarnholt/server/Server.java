package tarnholt.server;

import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Properties;
import tarnholt.api.Marsh;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;
import tarnholt.loading.Refusal;

/** One run of the server, from the first line of the log to the saved world. */
public final class Server implements Marsh {
    private static final int NO_LICENCE = 21;
    private static final int REFUSED = 22;
    private static final int BAD_SETTINGS = 23;

    private final Path root = Path.of("").toAbsolutePath();
    private final List<byte[]> kept = new ArrayList<>();
    private Ports ports;

    /** Runs until {@code stop} comes from the console or standard input ends; answers the exit code. */
    public int run(ContentLoader loader) throws Exception {
        String version = version();
        Log.line("harbour", "Tarnholt " + version + " on Java " + System.getProperty("java.specification.version")
                + ", heap " + (Runtime.getRuntime().maxMemory() >> 20) + " MiB");
        Files.createDirectories(root.resolve("mods"));
        Files.createDirectories(root.resolve("config"));
        Settings settings = new Settings(root.resolve("marsh.properties"));
        Crew crew = new Crew(root);
        if (!Licence.accepted(root)) {
            Log.line("harbour", "the licence is not accepted: read licence/terms.txt, then answer in licence/answer.txt");
            return NO_LICENCE;
        }
        int game;
        int query;
        try {
            game = settings.number("net.game", 1, 65535);
            query = settings.number("net.query", 1, 65535);
            settings.number("harbour.berths", 1, 200);
        } catch (IllegalStateException wrong) {
            Log.line("harbour", wrong.getMessage());
            return BAD_SETTINGS;
        }
        ports = new Ports(settings.text("net.bind"));
        List<Piece> pieces;
        try {
            pieces = loader.load(root, version, this);
        } catch (Refusal refusal) {
            Log.line(loader.name(), "cannot load: " + refusal.getMessage());
            return REFUSED;
        }
        World world = new World(root, settings, version, pieces);
        Greeting greeting = new Greeting(settings, version, loader, pieces);
        ports.lines("game port", game, greeting::answer);
        ports.datagrams("game port", game, null);
        ports.datagrams("query port", query, greeting::hail);
        Log.line("harbour", String.format(Locale.ROOT, "gates open on port %d with %d pieces after %.1f s", game,
                pieces.size(), Log.seconds()));
        console(world, crew, greeting);
        Log.line("harbour", "closing the gates");
        world.close();
        Log.line("harbour", "gates closed");
        return 0;
    }

    private static String version() throws IOException {
        Properties facts = new Properties();
        try (var in = Server.class.getResourceAsStream("/tarnholt/release.properties")) {
            facts.load(in);
        }
        return facts.getProperty("version");
    }

    private void console(World world, Crew crew, Greeting greeting) throws IOException {
        BufferedReader in = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        for (String line = in.readLine(); line != null; line = in.readLine()) {
            String[] words = line.trim().split("\\s+", 3);
            switch (words[0]) {
                case "" -> { }
                case "list" -> Log.line("console", greeting.aboard().size() + " aboard: "
                        + String.join(", ", greeting.aboard()) + "; wardens: " + String.join(", ", crew.names()));
                case "say" -> Log.line("console", "said: " + line.trim().substring(3).trim());
                case "operator" -> operator(crew, words);
                case "save" -> world.save();
                case "still" -> world.still();
                case "flow" -> world.flow();
                case "stop" -> {
                    return;
                }
                default -> Log.line("console", "not known: " + words[0]
                        + " (list, say TEXT, operator add|remove NAME, save, still, flow, stop)");
            }
        }
    }

    private static void operator(Crew crew, String[] words) throws IOException {
        if (words.length != 3 || !(words[1].equals("add") || words[1].equals("remove"))) {
            Log.line("console", "operator add|remove NAME");
            return;
        }
        boolean changed = crew.change(words[1].equals("add"), words[2]);
        Log.line("console", words[2] + (changed ? " changed" : " was so already"));
    }

    @Override
    public void keep(String owner, int mib) {
        byte[] room = new byte[mib << 20];
        for (int at = 0; at < room.length; at += 4096) {
            room[at] = 1;
        }
        kept.add(room);
    }

    @Override
    public void tell(String owner, String line) {
        Log.line(owner, line);
    }

    @Override
    public String config(String file, String key, String standard, String comment) throws IOException {
        Path path = root.resolve("config").resolve(file);
        if (!Files.exists(path)) {
            Files.writeString(path, "# " + comment + "\n" + key + " = " + standard + "\n");
        }
        Properties values = new Properties();
        try (var in = Files.newBufferedReader(path, StandardCharsets.UTF_8)) {
            values.load(in);
        }
        return values.getProperty(key, standard).trim();
    }

    @Override
    public void echoPort(String owner, int port) throws IOException {
        ports.datagrams(owner, port, null);
        Log.line(owner, "listening on UDP " + port);
    }

    @Override
    public boolean dedicated() {
        return true;
    }

    /** Starts the server and turns the outcome into the exit code; an Error is left to the JVM. */
    public static void start(ContentLoader loader) {
        int code;
        try {
            code = new Server().run(loader);
        } catch (RuntimeException broken) {
            throw broken;
        } catch (IOException broken) {
            throw new UncheckedIOException(broken);
        } catch (Exception broken) {
            throw new IllegalStateException(broken);
        }
        System.exit(code);
    }
}
