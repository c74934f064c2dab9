package tarnholt.loading;

import java.io.IOException;
import java.net.URL;
import java.net.URLClassLoader;
import java.nio.file.DirectoryStream;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.jar.JarFile;
import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** The part that every loader shares: find the archives, check what each needs, start them in order. */
public final class Assembly {
    /** Reads the loader's own metadata out of one archive, or answers null when it has none. */
    public interface Reader {
        Piece read(Path archive, JarFile jar) throws Exception;
    }

    private final String loader;
    private final String build;
    private final int oldestSchema;
    private final Marsh marsh;

    public Assembly(String loader, String build, int oldestSchema, Marsh marsh) {
        this.loader = loader;
        this.build = build;
        this.oldestSchema = oldestSchema;
        this.marsh = marsh;
    }

    public List<Piece> load(Path folder, String gameVersion, Reader reader) throws Exception {
        Map<String, Piece> found = find(folder, reader);
        for (Piece piece : found.values()) {
            check(piece, gameVersion, found);
        }
        List<Piece> order = new ArrayList<>();
        for (Piece piece : found.values()) {
            place(piece, found, order);
        }
        start(order);
        return order;
    }

    private Map<String, Piece> find(Path folder, Reader reader) throws Exception {
        Map<String, Piece> found = new TreeMap<>();
        if (!Files.isDirectory(folder)) {
            return found;
        }
        List<Path> archives = new ArrayList<>();
        try (DirectoryStream<Path> stream = Files.newDirectoryStream(folder, "*.jar")) {
            stream.forEach(archives::add);
        }
        archives.sort(null);
        for (Path archive : archives) {
            Piece piece;
            try (JarFile jar = new JarFile(archive.toFile())) {
                piece = reader.read(archive, jar);
            } catch (IOException broken) {
                throw new Refusal(archive.getFileName() + " cannot be read: " + broken.getMessage());
            }
            if (piece == null) {
                marsh.tell(loader, "passed over " + archive.getFileName() + ": it holds nothing for " + loader);
                continue;
            }
            Piece twin = found.put(piece.id(), piece);
            if (twin != null) {
                throw new Refusal("two archives bring " + piece.id() + ": " + twin.archive().getFileName()
                        + " and " + archive.getFileName());
            }
        }
        return found;
    }

    private void check(Piece piece, String gameVersion, Map<String, Piece> found) throws Refusal {
        String who = piece.id() + " " + piece.version();
        if (piece.schema() < oldestSchema) {
            throw new Refusal(who + " is described in form " + piece.schema() + ", " + loader + " " + build
                    + " takes form " + oldestSchema + " and later");
        }
        if (!Versions.within(gameVersion, piece.game())) {
            throw new Refusal(who + " wants Tarnholt " + piece.game() + ", this is " + gameVersion);
        }
        if (!Versions.within(build, piece.loader())) {
            throw new Refusal(who + " wants " + loader + " " + piece.loader() + ", this is " + build);
        }
        for (Map.Entry<String, String> need : piece.needs().entrySet()) {
            Piece other = found.get(need.getKey());
            if (other == null) {
                throw new Refusal(who + " needs " + need.getKey() + " " + need.getValue() + ", which is not here");
            }
            if (!Versions.within(other.version(), need.getValue())) {
                throw new Refusal(who + " needs " + need.getKey() + " " + need.getValue() + ", here is "
                        + other.version());
            }
        }
    }

    private void place(Piece piece, Map<String, Piece> found, List<Piece> order) {
        if (order.contains(piece)) {
            return;
        }
        for (String need : new TreeMap<>(piece.needs()).keySet()) {
            Piece other = found.get(need);
            if (other != null && !other.needs().containsKey(piece.id())) {
                place(other, found, order);
            }
        }
        if (!order.contains(piece)) {
            order.add(piece);
        }
    }

    /** A class loader cannot look into an archive inside another one: it gets a copy of its own. */
    private static Path unpacked(Piece piece, String carried) throws Exception {
        try (JarFile jar = new JarFile(piece.archive().toFile())) {
            var entry = jar.getEntry(carried);
            if (entry == null) {
                throw new Refusal(piece.id() + " " + piece.version() + " says it carries " + carried + " and does not");
            }
            Path copy = Files.createTempFile("tarnholt-carried-", ".jar");
            copy.toFile().deleteOnExit();
            try (var in = jar.getInputStream(entry)) {
                Files.copy(in, copy, StandardCopyOption.REPLACE_EXISTING);
            }
            return copy;
        }
    }

    private void start(List<Piece> order) throws Exception {
        List<URL> urls = new ArrayList<>();
        for (Piece piece : order) {
            urls.add(piece.archive().toUri().toURL());
            for (String carried : piece.carries()) {
                urls.add(unpacked(piece, carried).toUri().toURL());
            }
        }
        @SuppressWarnings("resource") // content runs as long as the server does
        URLClassLoader classes = new URLClassLoader(urls.toArray(new URL[0]), Assembly.class.getClassLoader());
        Map<String, Content> started = new LinkedHashMap<>();
        for (Piece piece : order) {
            marsh.tell(loader, "bringing in " + piece.id() + " " + piece.version() + " (" + piece.kind() + ")");
            if (!piece.entry().isEmpty()) {
                Class<?> entry = Class.forName(piece.entry(), true, classes);
                Content content = (Content) entry.getDeclaredConstructor().newInstance();
                content.begin(marsh);
                started.put(piece.id(), content);
            }
            marsh.tell(loader, "brought in " + piece.id() + " " + piece.version());
        }
    }
}
