package tarnholt.loading;

import java.nio.file.Path;
import java.util.List;
import java.util.Map;

/** One content archive as its metadata describes it; {@code carries} are archives inside it. */
public record Piece(
        Path archive, String id, String version, String kind, String entry, String side, int schema,
        String game, String loader, Map<String, String> needs, List<String> carries) {}
