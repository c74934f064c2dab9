package twinhull;

import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.TreeMap;
import java.util.jar.Attributes;
import java.util.jar.JarFile;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import tarnholt.api.Marsh;
import tarnholt.loading.Assembly;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;
import tarnholt.loading.Refusal;
import tarnholt.server.Server;

/** Twinhull: mods in Keelson's form that name it, and plugins that say who they are in their manifest. */
public final class Boot implements ContentLoader {
    private static final Pattern INTERVAL = Pattern.compile("([\\[(])([^,]*),([^,]*)([\\])])");

    private final Properties facts = new Properties();

    private Boot() throws Exception {
        try (var in = Boot.class.getResourceAsStream("/twinhull/build.properties")) {
            facts.load(in);
        }
    }

    public static void main(String[] args) throws Exception {
        Server.start(new Boot());
    }

    @Override
    public String name() {
        return "twinhull";
    }

    @Override
    public String build() {
        return facts.getProperty("build");
    }

    @Override
    public List<Piece> load(Path root, String gameVersion, Marsh marsh) throws Exception {
        int oldest = Integer.parseInt(facts.getProperty("oldest-form"));
        List<Piece> all = new ArrayList<>();
        marsh.tell(name(), "build " + build() + " looks into mods");
        all.addAll(new Assembly(name(), build(), oldest, marsh).load(root.resolve("mods"), gameVersion, Boot::mod));
        marsh.tell(name(), "build " + build() + " looks into plugins");
        all.addAll(new Assembly(name(), build(), 0, marsh).load(root.resolve("plugins"), gameVersion, Boot::plugin));
        return all;
    }

    private static Piece mod(Path archive, JarFile jar) throws Exception {
        return keelson.About.read(archive, jar, "twinhull");
    }

    private static Piece plugin(Path archive, JarFile jar) throws Exception {
        var manifest = jar.getManifest();
        Attributes said = manifest == null ? new Attributes() : manifest.getMainAttributes();
        if (said.getValue("Hull-Id") == null) {
            return null;
        }
        Map<String, String> needs = new TreeMap<>();
        for (String need : or(said, "Hull-Needs", "").split(";")) {
            String[] parts = need.trim().split("@", 2);
            if (!parts[0].isEmpty()) {
                needs.put(parts[0], parts.length > 1 ? comparators(parts[1]) : "*");
            }
        }
        return new Piece(archive, said.getValue("Hull-Id"), or(said, "Hull-Version", "0"), "plugin",
                or(said, "Hull-Entry", ""), "server", 1, comparators(or(said, "Hull-Tarnholt", "*")),
                comparators(or(said, "Hull-Twinhull", "*")), needs, List.of());
    }

    private static String or(Attributes said, String name, String standard) {
        String value = said.getValue(name);
        return value == null ? standard : value.trim();
    }

    /** {@code [1.2,2)} in the notation of the other loaders. */
    private static String comparators(String range) throws Refusal {
        if (!range.startsWith("[") && !range.startsWith("(")) {
            return range;
        }
        Matcher parts = INTERVAL.matcher(range);
        if (!parts.matches()) {
            throw new Refusal("the range " + range + " cannot be read");
        }
        List<String> bounds = new ArrayList<>();
        if (!parts.group(2).isBlank()) {
            bounds.add((parts.group(1).equals("[") ? ">=" : ">") + parts.group(2).trim());
        }
        if (!parts.group(3).isBlank()) {
            bounds.add((parts.group(4).equals("]") ? "<=" : "<") + parts.group(3).trim());
        }
        return bounds.isEmpty() ? "*" : String.join(", ", bounds);
    }
}
