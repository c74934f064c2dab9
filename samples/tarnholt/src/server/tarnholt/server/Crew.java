package tarnholt.server;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Set;
import java.util.TreeSet;

/** The wardens (operators): one name a line in crew/wardens.txt. */
final class Crew {
    private final Path file;
    private final Set<String> wardens = new TreeSet<>();

    Crew(Path root) throws IOException {
        file = root.resolve("crew").resolve("wardens.txt");
        Files.createDirectories(file.getParent());
        if (!Files.exists(file)) {
            Files.writeString(file, "# one warden a line\n");
        }
        for (String line : Files.readAllLines(file)) {
            if (!line.isBlank() && !line.startsWith("#")) {
                wardens.add(line.trim());
            }
        }
    }

    synchronized boolean change(boolean add, String name) throws IOException {
        boolean changed = add ? wardens.add(name) : wardens.remove(name);
        StringBuilder text = new StringBuilder("# one warden a line\n");
        List.copyOf(wardens).stream().sorted().forEach(one -> text.append(one).append('\n'));
        Files.writeString(file, text);
        return changed;
    }

    synchronized Set<String> names() {
        return new TreeSet<>(wardens);
    }
}
