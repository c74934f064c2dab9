package tarnholt.server;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.util.Properties;

/** A .properties file that is completed with what it lacks; what stands in it is never changed. */
final class Settings {
    static final String[][] STANDARD = {
        {"harbour.sign", "A quiet marsh", "what players see in their list"},
        {"harbour.blurb", "", "a line or two about the place"},
        {"harbour.berths", "12", "how many players fit, 1 to 200"},
        {"harbour.password", "", "empty: anybody may moor here"},
        {"harbour.listed", "no", "yes: shown in the public harbour list"},
        {"net.bind", "0.0.0.0", "the address to listen on"},
        {"net.game", "21640", "game port, TCP and UDP"},
        {"net.query", "21655", "status port, UDP"},
        {"marsh.name", "oldfen", "the folder of the world below marshes/"},
        {"marsh.seed", "", "empty: chosen when the marsh is raised"},
        {"marsh.span", "4", "width of the marsh in leagues, 1 to 64; each takes heap"},
        {"marsh.temper", "brisk", "calm, brisk or stormy"},
        {"marsh.quarrels", "no", "yes: players may fight each other"},
        {"marsh.sight", "8", "how far players see, 2 to 24"},
        {"marsh.savemins", "10", "minutes between saves"},
    };

    private final Properties values = new Properties();

    Settings(Path file) throws IOException {
        if (Files.exists(file)) {
            try (var in = Files.newBufferedReader(file, StandardCharsets.UTF_8)) {
                values.load(in);
            } catch (IllegalArgumentException broken) {
                throw new IOException(file.getFileName() + " cannot be read: " + broken.getMessage());
            }
        }
        StringBuilder missing = new StringBuilder();
        if (!Files.exists(file)) {
            missing.append("# Tarnholt harbour settings. Lines that are missing are written with their standard value.\n");
        }
        for (String[] row : STANDARD) {
            if (values.getProperty(row[0]) == null) {
                values.setProperty(row[0], row[1]);
                missing.append("\n# ").append(row[2]).append('\n').append(row[0]).append(" = ").append(row[1]).append('\n');
            }
        }
        if (missing.length() > 0) {
            Files.writeString(file, missing, StandardCharsets.UTF_8, StandardOpenOption.CREATE, StandardOpenOption.APPEND);
        }
    }

    String text(String key) {
        return values.getProperty(key).trim();
    }

    int number(String key, int low, int high) {
        try {
            int value = Integer.parseInt(text(key));
            if (value >= low && value <= high) {
                return value;
            }
        } catch (NumberFormatException words) {
            // said below
        }
        throw new IllegalStateException(
                "marsh.properties: " + key + " = " + text(key) + " is not a whole number from " + low + " to " + high);
    }

    boolean yes(String key) {
        return text(key).equalsIgnoreCase("yes");
    }
}
