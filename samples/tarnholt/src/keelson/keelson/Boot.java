package keelson;

import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.TreeMap;
import java.util.jar.JarFile;
import tarnholt.api.Marsh;
import tarnholt.loading.Assembly;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;
import tarnholt.loading.Refusal;
import tarnholt.server.Server;

/** Keelson: content describes itself in keel/about.json. */
public final class Boot implements ContentLoader {
    private final Properties facts = new Properties();

    private Boot() throws Exception {
        try (var in = Boot.class.getResourceAsStream("/keelson/build.properties")) {
            facts.load(in);
        }
    }

    public static void main(String[] args) throws Exception {
        Server.start(new Boot());
    }

    @Override
    public String name() {
        return "keelson";
    }

    @Override
    public String build() {
        return facts.getProperty("build");
    }

    @Override
    public List<Piece> load(Path root, String gameVersion, Marsh marsh) throws Exception {
        marsh.tell(name(), "build " + build() + " looks into mods");
        int oldest = Integer.parseInt(facts.getProperty("oldest-form"));
        return new Assembly(name(), build(), oldest, marsh).load(root.resolve("mods"), gameVersion, Boot::read);
    }

    private static Piece read(Path archive, JarFile jar) throws Exception {
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
        Map<String, String> needs = new TreeMap<>();
        if (about.get("needs") instanceof Map<?, ?> wanted) {
            wanted.forEach((id, range) -> needs.put(id.toString(), range.toString()));
        }
        return new Piece(archive, text(about, "id", ""), text(about, "version", "0"), text(about, "kind", "mod"),
                text(about, "entry", ""), text(about, "side", "both"),
                about.get("form") instanceof Double form ? form.intValue() : 1, text(about, "tarnholt", "*"),
                text(about, "keelson", "*"), needs);
    }

    private static String text(Map<?, ?> about, String key, String standard) {
        return about.get(key) instanceof String value ? value : standard;
    }
}
