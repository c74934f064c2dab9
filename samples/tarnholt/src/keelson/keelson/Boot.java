package keelson;

import java.nio.file.Path;
import java.util.List;
import java.util.Properties;
import tarnholt.api.Marsh;
import tarnholt.loading.Assembly;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;
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
        return new Assembly(name(), build(), oldest, marsh).load(root.resolve("mods"), gameVersion, (archive, jar) -> About.read(archive, jar, "keelson"));
    }
}
