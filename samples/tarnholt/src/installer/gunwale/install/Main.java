package gunwale.install;

import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;

/** Puts the loader into a server folder: java -jar THIS --into FOLDER. */
public final class Main {
    private Main() {}

    public static void main(String[] args) throws Exception {
        if (args.length != 2 || !args[0].equals("--into")) {
            System.err.println("usage: java -jar gunwale-installer.jar --into FOLDER");
            System.exit(2);
        }
        Path folder = Path.of(args[1]);
        Files.createDirectories(folder.resolve("loader"));
        try (InputStream loader = Main.class.getResourceAsStream("/payload/gunwale.jar")) {
            Files.write(folder.resolve("loader").resolve("gunwale.jar"), loader.readAllBytes());
        }
        System.out.println("gunwale is in " + folder.resolve("loader"));
    }
}
