package tarnholt.loading;

/** Dotted versions and comma-joined ranges such as ">=2.3, <3". */
public final class Versions {
    private Versions() {}

    public static int compare(String left, String right) {
        String[] a = left.split("[.-]");
        String[] b = right.split("[.-]");
        for (int i = 0; i < Math.max(a.length, b.length); i++) {
            int x = field(a, i);
            int y = field(b, i);
            if (x != y) {
                return Integer.compare(x, y);
            }
        }
        return 0;
    }

    private static int field(String[] fields, int index) {
        if (index >= fields.length) {
            return 0;
        }
        try {
            return Integer.parseInt(fields[index]);
        } catch (NumberFormatException words) {
            return -1; // a preview is older than the release it leads to
        }
    }

    public static boolean within(String version, String range) {
        for (String part : range.split(",")) {
            String text = part.trim();
            if (text.isEmpty() || text.equals("*")) {
                continue;
            }
            int split = 0;
            while (split < text.length() && "<>=".indexOf(text.charAt(split)) >= 0) {
                split++;
            }
            int order = compare(version, text.substring(split).trim());
            boolean holds = switch (text.substring(0, split)) {
                case ">=" -> order >= 0;
                case ">" -> order > 0;
                case "<=" -> order <= 0;
                case "<" -> order < 0;
                default -> order == 0;
            };
            if (!holds) {
                return false;
            }
        }
        return true;
    }
}
