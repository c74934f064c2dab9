package keelson;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/** As much of RFC 8259 as an about.json needs: objects, arrays, strings, numbers, true, false, null. */
final class Json {
    private final String text;
    private int at;

    private Json(String text) {
        this.text = text;
    }

    static Object parse(String text) {
        Json json = new Json(text);
        Object value = json.value();
        json.space();
        if (json.at != text.length()) {
            throw json.wrong("more text after the end");
        }
        return value;
    }

    private IllegalArgumentException wrong(String what) {
        return new IllegalArgumentException(what + " at character " + at);
    }

    private void space() {
        while (at < text.length() && Character.isWhitespace(text.charAt(at))) {
            at++;
        }
    }

    private char next() {
        space();
        if (at >= text.length()) {
            throw wrong("the text ends too early");
        }
        return text.charAt(at);
    }

    private void take(char wanted) {
        if (next() != wanted) {
            throw wrong("expected " + wanted);
        }
        at++;
    }

    private Object value() {
        char c = next();
        if (c == '{') {
            return object();
        }
        if (c == '[') {
            return array();
        }
        if (c == '"') {
            return string();
        }
        int from = at;
        while (at < text.length() && "+-.eE0123456789truefalsn".indexOf(text.charAt(at)) >= 0) {
            at++;
        }
        String word = text.substring(from, at);
        return switch (word) {
            case "true" -> Boolean.TRUE;
            case "false" -> Boolean.FALSE;
            case "null" -> null;
            default -> {
                try {
                    yield Double.valueOf(word);
                } catch (NumberFormatException no) {
                    throw wrong("not a value: " + word);
                }
            }
        };
    }

    private Map<String, Object> object() {
        Map<String, Object> result = new LinkedHashMap<>();
        take('{');
        while (next() != '}') {
            String key = string();
            take(':');
            result.put(key, value());
            if (next() == ',') {
                at++;
            }
        }
        take('}');
        return result;
    }

    private List<Object> array() {
        List<Object> result = new ArrayList<>();
        take('[');
        while (next() != ']') {
            result.add(value());
            if (next() == ',') {
                at++;
            }
        }
        take(']');
        return result;
    }

    private String string() {
        take('"');
        StringBuilder result = new StringBuilder();
        while (at < text.length() && text.charAt(at) != '"') {
            char c = text.charAt(at++);
            if (c == '\\') {
                char escaped = text.charAt(at++);
                switch (escaped) {
                    case 'n' -> result.append('\n');
                    case 't' -> result.append('\t');
                    case 'u' -> {
                        result.append((char) Integer.parseInt(text.substring(at, at + 4), 16));
                        at += 4;
                    }
                    default -> result.append(escaped);
                }
            } else {
                result.append(c);
            }
        }
        take('"');
        return result.toString();
    }
}
