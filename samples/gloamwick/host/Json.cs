using System;
using System.Collections.Generic;
using System.Globalization;
using System.Text;

/// A small JSON reader and writer: objects as dictionaries that keep their order, arrays as lists.
public static class Json
{
    public static object Read(string text)
    {
        int at = 0;
        object value = Value(text, ref at);
        Blank(text, ref at);
        if (at != text.Length) throw new FormatException("something follows the value at " + at);
        return value;
    }

    static void Blank(string text, ref int at)
    {
        while (at < text.Length && " \t\r\n\uFEFF".IndexOf(text[at]) >= 0) at++;
    }

    static object Value(string text, ref int at)
    {
        Blank(text, ref at);
        if (at >= text.Length) throw new FormatException("the text ends too early");
        char first = text[at];
        if (first == '{') return Members(text, ref at);
        if (first == '[') return Elements(text, ref at);
        if (first == '"') return Text(text, ref at);
        int end = at;
        while (end < text.Length && ",]} \t\r\n".IndexOf(text[end]) < 0) end++;
        string word = text.Substring(at, end - at);
        at = end;
        if (word == "true") return true;
        if (word == "false") return false;
        if (word == "null") return null;
        long number;
        if (long.TryParse(word, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out number)) return number;
        throw new FormatException("'" + word + "' is no value");
    }

    static object Members(string text, ref int at)
    {
        var made = new Dictionary<string, object>();
        at++;
        for (Blank(text, ref at); at < text.Length && text[at] != '}'; Blank(text, ref at))
        {
            string name = Text(text, ref at);
            Blank(text, ref at);
            if (at >= text.Length || text[at++] != ':') throw new FormatException("':' is missing after " + name);
            made[name] = Value(text, ref at);
            Blank(text, ref at);
            if (at < text.Length && text[at] == ',') at++;
        }
        if (at++ >= text.Length) throw new FormatException("'}' is missing");
        return made;
    }

    static object Elements(string text, ref int at)
    {
        var made = new List<object>();
        at++;
        for (Blank(text, ref at); at < text.Length && text[at] != ']'; Blank(text, ref at))
        {
            made.Add(Value(text, ref at));
            Blank(text, ref at);
            if (at < text.Length && text[at] == ',') at++;
        }
        if (at++ >= text.Length) throw new FormatException("']' is missing");
        return made;
    }

    static string Text(string text, ref int at)
    {
        if (at >= text.Length || text[at] != '"') throw new FormatException("a text is expected at " + at);
        var made = new StringBuilder();
        for (at++; at < text.Length && text[at] != '"'; at++)
        {
            char one = text[at];
            if (one == '\\')
            {
                one = text[++at];
                if (one == 'u') { one = (char)Convert.ToInt32(text.Substring(at + 1, 4), 16); at += 4; }
                else if ("\"\\/".IndexOf(one) < 0) one = "\b\f\n\r\t"["bfnrt".IndexOf(one)];
            }
            made.Append(one);
        }
        at++;
        return made.ToString();
    }

    public static string Write(object value, string indent)
    {
        var members = value as Dictionary<string, object>;
        if (members != null)
        {
            var lines = new List<string>();
            foreach (var one in members) lines.Add(indent + "  " + Quoted(one.Key) + ": " + Write(one.Value, indent + "  "));
            return lines.Count == 0 ? "{}" : "{\n" + string.Join(",\n", lines) + "\n" + indent + "}";
        }
        var elements = value as List<object>;
        if (elements != null)
        {
            var parts = new List<string>();
            foreach (object one in elements) parts.Add(Write(one, indent));
            return "[" + string.Join(", ", parts) + "]";
        }
        if (value is bool) return (bool)value ? "true" : "false";
        return value is string ? Quoted((string)value) : Convert.ToString(value, CultureInfo.InvariantCulture);
    }

    static string Quoted(string text)
    {
        return "\"" + text.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"";
    }
}
