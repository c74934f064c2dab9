package tarnholt.server;

import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.TreeMap;
import java.util.TreeSet;
import java.util.concurrent.ConcurrentSkipListSet;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;

/**
 * The exchange on the game port, one request line, answer lines, end.
 *
 * <p>{@code hail} answers the facts of the server, one {@code key value} a line, then a line
 * {@code piece ID VERSION SIDE} for each content, then {@code end}.
 * {@code moor NAME PASSWORD ID=VERSION,...} (a dash stands for no password or no content) answers
 * {@code welcome NAME} or {@code turned-away REASON}, then {@code end}.
 */
final class Greeting {
    private final Settings settings;
    private final String gameVersion;
    private final ContentLoader loader;
    private final List<Piece> pieces;
    private final Set<String> aboard = new ConcurrentSkipListSet<>();

    Greeting(Settings settings, String gameVersion, ContentLoader loader, List<Piece> pieces) {
        this.settings = settings;
        this.gameVersion = gameVersion;
        this.loader = loader;
        this.pieces = pieces;
    }

    Set<String> aboard() {
        return new TreeSet<>(aboard);
    }

    String hail() {
        StringBuilder text = new StringBuilder();
        text.append("sign ").append(settings.text("harbour.sign")).append('\n');
        text.append("game tarnholt ").append(gameVersion).append('\n');
        text.append("loader ").append(loader.name()).append(' ').append(loader.build()).append('\n');
        text.append("berths ").append(aboard.size()).append(' ').append(settings.text("harbour.berths")).append('\n');
        for (Piece piece : pieces) {
            text.append("piece ").append(piece.id()).append(' ').append(piece.version()).append(' ')
                    .append(piece.side()).append('\n');
        }
        return text.append("end\n").toString();
    }

    String answer(String request) {
        String[] words = request.split(" ");
        if (words[0].equals("hail")) {
            return hail();
        }
        if (words[0].equals("moor") && words.length == 4) {
            String reason = reasonAgainst(words[2], words[3]);
            if (reason != null) {
                Log.line("harbour", "turned away " + plain(words[1]) + ": " + reason);
                return "turned-away " + reason + "\nend\n";
            }
            aboard.add(plain(words[1]));
            Log.line("harbour", plain(words[1]) + " moored");
            return "welcome " + plain(words[1]) + "\nend\n";
        }
        return "turned-away not understood\nend\n";
    }

    private static String plain(String name) {
        return name.replaceAll("[^A-Za-z0-9_-]", "?");
    }

    private String reasonAgainst(String password, String brought) {
        String wanted = settings.text("harbour.password");
        if (!wanted.isEmpty() && !wanted.equals(password)) {
            return "wrong password";
        }
        if (aboard.size() >= settings.number("harbour.berths", 1, 200)) {
            return "no free berth";
        }
        TreeMap<String, String> has = new TreeMap<>();
        for (String one : brought.split(",")) {
            String[] pair = one.split("=", 2);
            if (pair.length == 2) {
                has.put(pair[0], pair[1]);
            }
        }
        List<String> reasons = new ArrayList<>();
        for (Piece piece : pieces) {
            String version = has.get(piece.id());
            if (piece.side().equals("both") && !piece.version().equals(version)) {
                reasons.add(piece.id() + " " + piece.version() + " is wanted, "
                        + (version == null ? "none" : version) + " is there");
            }
        }
        return reasons.isEmpty() ? null : String.join("; ", reasons);
    }
}
