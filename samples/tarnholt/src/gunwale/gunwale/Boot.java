package gunwale;

import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.TreeMap;
import java.util.jar.JarFile;
import javax.xml.parsers.DocumentBuilderFactory;
import org.w3c.dom.Element;
import org.w3c.dom.NodeList;
import tarnholt.api.Marsh;
import tarnholt.loading.Assembly;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;
import tarnholt.loading.Refusal;
import tarnholt.server.Server;

/** Gunwale: content describes itself in gunwale-plate.xml. */
public final class Boot implements ContentLoader {
    private final Properties facts = new Properties();

    private Boot() throws Exception {
        try (var in = Boot.class.getResourceAsStream("/gunwale/build.properties")) {
            facts.load(in);
        }
    }

    public static void main(String[] args) throws Exception {
        Server.start(new Boot());
    }

    @Override
    public String name() {
        return "gunwale";
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
        var entry = jar.getEntry("gunwale-plate.xml");
        if (entry == null) {
            return null;
        }
        Element plate;
        DocumentBuilderFactory factory = DocumentBuilderFactory.newInstance();
        factory.setFeature("http://apache.org/xml/features/disallow-doctype-decl", true);
        try (var in = jar.getInputStream(entry)) {
            plate = factory.newDocumentBuilder().parse(in).getDocumentElement();
        } catch (org.xml.sax.SAXException broken) {
            throw new Refusal(archive.getFileName() + ": gunwale-plate.xml cannot be read: " + broken.getMessage());
        }
        Map<String, String> needs = new TreeMap<>();
        NodeList wanted = plate.getElementsByTagName("need");
        for (int i = 0; i < wanted.getLength(); i++) {
            Element need = (Element) wanted.item(i);
            needs.put(need.getAttribute("id"), need.getAttribute("range"));
        }
        return new Piece(archive, plate.getAttribute("id"), plate.getAttribute("version"),
                or(plate.getAttribute("kind"), "mod"), or(plate.getAttribute("entry"), ""),
                or(plate.getAttribute("where"), "both"), Integer.parseInt(or(plate.getAttribute("form"), "1")),
                or(plate.getAttribute("tarnholt"), "*"), or(plate.getAttribute("gunwale"), "*"), needs,
                List.of());
    }

    private static String or(String value, String standard) {
        return value.isEmpty() ? standard : value;
    }
}
