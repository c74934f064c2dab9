package tarnholt.server;

import java.io.IOException;
import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.Properties;

/** The terms lie in licence/terms.txt; the answer of the person who runs the server in licence/answer.txt. */
final class Licence {
    private Licence() {}

    static boolean accepted(Path root) throws IOException {
        Path terms = root.resolve("licence").resolve("terms.txt");
        Path answer = root.resolve("licence").resolve("answer.txt");
        Files.createDirectories(answer.getParent());
        if (!Files.exists(terms)) {
            try (InputStream shipped = Licence.class.getResourceAsStream("/tarnholt/terms.txt")) {
                Files.write(terms, shipped.readAllBytes());
            }
        }
        if (!Files.exists(answer)) {
            Files.writeString(answer, "# Read terms.txt. Then write accepted or declined.\nanswer = not given\n");
        }
        Properties given = new Properties();
        try (var in = Files.newBufferedReader(answer, StandardCharsets.UTF_8)) {
            given.load(in);
        }
        return given.getProperty("answer", "").trim().equals("accepted");
    }
}
