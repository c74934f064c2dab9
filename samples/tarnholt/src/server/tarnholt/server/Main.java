package tarnholt.server;

import java.nio.file.Path;
import java.util.List;
import tarnholt.api.Marsh;
import tarnholt.loading.ContentLoader;
import tarnholt.loading.Piece;

/** The bare server: whatever lies in mods/ is left alone. */
public final class Main {
    private Main() {}

    public static void main(String[] args) {
        Server.start(new ContentLoader() {
            @Override
            public String name() {
                return "bare";
            }

            @Override
            public String build() {
                return "0";
            }

            @Override
            public List<Piece> load(Path root, String gameVersion, Marsh marsh) {
                return List.of();
            }
        });
    }
}
