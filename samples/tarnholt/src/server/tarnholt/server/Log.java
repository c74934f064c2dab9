package tarnholt.server;

import java.util.Locale;

/** One line for each event: seconds since the start, who, what. */
final class Log {
    private static final long START = System.nanoTime();

    private Log() {}

    static double seconds() {
        return (System.nanoTime() - START) / 1e9;
    }

    static synchronized void line(String who, String text) {
        System.out.println(String.format(Locale.ROOT, "+%07.3f %s | %s", seconds(), who, text));
        System.out.flush();
    }
}
