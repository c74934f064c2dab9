package keelson;

import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.jar.JarFile;
import tarnholt.loading.Piece;
import tarnholt.loading.Refusal;

/** Reads keel/about.json. */
public final class About {
    private About() {}

    /** Answers null when the archive has no such file, or when it does not name a loader that asks to be named. */
    public static Piece read(Path archive, JarFile jar, String loader) throws Exception {
        var entry = jar.getEntry("keel/about.json");
        if (entry == null) {
            return null;
        }
        Map<?, ?> about;
        try (var in = jar.getInputStream(entry)) {
            about = (Map<?, ?>) Json.parse(new String(in.readAllBytes(), StandardCharsets.UTF_8));
        } catch (IllegalArgumentException | ClassCastException broken) {
            throw new Refusal(archive.getFileName() + ": keel/about.json cannot be read: " + broken.getMessage());
        }
        if (!loader.equals("keelson") && !about.containsKey(loader)) {
            return null;
        }
        Map<String, String> needs = new TreeMap<>();
        if (about.get("needs") instanceof Map<?, ?> wanted) {
            wanted.forEach((id, range) -> needs.put(id.toString(), range.toString()));
        }
        List<String> carries = new ArrayList<>();
        if (about.get("carries") instanceof List<?> inside) {
            inside.forEach(path -> carries.add(path.toString()));
        }
        return new Piece(archive, text(about, "id", ""), text(about, "version", "0"), text(about, "kind", "mod"),
                text(about, "entry", ""), text(about, "side", "both"),
                about.get("form") instanceof Double form ? form.intValue() : 1, text(about, "tarnholt", "*"),
                text(about, loader, "*"), needs, carries);
    }

    private static String text(Map<?, ?> about, String key, String standard) {
        return about.get(key) instanceof String value ? value : standard;
    }
}
