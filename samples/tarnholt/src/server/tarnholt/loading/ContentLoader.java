package tarnholt.loading;

import java.nio.file.Path;
import java.util.List;
import tarnholt.api.Marsh;

/** How a loader puts content into the server. */
public interface ContentLoader {
    String name();

    String build();

    /** Loads everything below {@code root} and says what the server now runs. */
    List<Piece> load(Path root, String gameVersion, Marsh marsh) throws Exception;
}
