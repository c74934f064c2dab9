using System;
using System.Collections.Generic;
using System.IO;
using System.Net;
using System.Net.Sockets;
using System.Reflection;
using System.Text;
using System.Threading;

/// A piece of content that was lit: what it is, and whether players need it too.
public class Lit
{
    public string Id, Version, Who;
    public string[] Things;
}

/// The Gloamwick stand-in: a side-scrolling cavern over one TCP port. What lights lamps is in the subclass of a loader.
/// Console: seats, hush, murmur, douse. Exit codes: 0 doused, 51 lamps failed, 52 wrong setting, 53 port taken.
public class Host
{
    public static void Tell(string text)
    {
        lock (typeof(Host)) { Console.Out.Write(DateTime.Now.ToString("HH:mm:ss") + " ~ " + text + "\n"); Console.Out.Flush(); }
    }

    protected virtual string Loader { get { return "none 0"; } }

    /// What is lit, in order; a loader does it.
    protected virtual List<Lit> Light(string folder) { return new List<Lit>(); }

    Rules rules;
    string version, cavern;
    List<Lit> lit;
    readonly List<string> seated = new List<string>();
    volatile bool hushed, closing;
    int drips;

    public int Run(string[] arguments)
    {
        string here = AppDomain.CurrentDomain.BaseDirectory;
        try
        {
            version = File.ReadAllText(Path.Combine(here, "gloam.version")).Trim();
            Tell("Gloamwick " + version + ", loader " + Loader);
            rules = new Rules(Path.Combine(here, "gloamwick.json"));
            lit = Array.IndexOf(arguments, "--unlit") >= 0 ? new List<Lit>() : Light(Path.Combine(here, "lamps"));
            OpenCavern(here);
            var listener = Listen();
            Tell("the cavern glows on port " + rules.Number("wire", "port", 1, 65535) + ", " + lit.Count + " lamps lit");
            var serving = new Thread(() => Serve(listener)) { IsBackground = true };
            var dripping = new Thread(Drip) { IsBackground = true };
            serving.Start();
            dripping.Start();
            Talk();
            closing = true;
            serving.Join();
            dripping.Join();
            hushed = false;
            Keep();
            Tell("all is doused");
            return 0;
        }
        catch (Dark dark)
        {
            Tell("dark: " + dark.Message);
            return dark.Code;
        }
    }

    void OpenCavern(string here)
    {
        string name = rules.Text("cavern", "name");
        cavern = Path.Combine(here, "caverns", name);
        string walls = Path.Combine(cavern, "walls.txt");
        if (File.Exists(walls))
        {
            string wrote = File.ReadAllLines(walls)[0].Replace("gloamwick ", "");
            if (new Version(wrote) > new Version(version))
                throw new Dark(52, "cavern " + name + " was carved by Gloamwick " + wrote + ", this is " + version);
            Tell("cavern " + name + " is entered again");
        }
        else
        {
            Directory.CreateDirectory(cavern);
            int depth = rules.Number("cavern", "depth", 1, 20);
            var draw = new Random(rules.Number("cavern", "seed", 0, int.MaxValue));
            for (int floor = 1; floor <= depth; floor++)
            {
                var rock = new byte[1500];
                draw.NextBytes(rock);
                File.WriteAllBytes(Path.Combine(cavern, "floor-" + floor + ".rock"), rock);
                Tell("carving floor " + floor + " of " + depth + " (" + 100 * floor / depth + ")");
            }
        }
        Keep();
    }

    void Keep()
    {
        lock (this)
        {
            if (hushed) return;
            var things = new StringBuilder();
            foreach (Lit one in lit) foreach (string thing in one.Things) things.Append(one.Id + " has " + thing + "\n");
            File.WriteAllText(Path.Combine(cavern, "walls.txt"), "gloamwick " + version + "\ndrips " + drips + "\n");
            File.WriteAllText(Path.Combine(cavern, "lights.txt"), things.ToString());
        }
    }

    void Drip()
    {
        for (int tick = 1; !closing; tick++)
        {
            Thread.Sleep(50);
            if (tick % 20 == 0) { drips++; Keep(); }
        }
    }

    TcpListener Listen()
    {
        int port = rules.Number("wire", "port", 1, 65535);
        var listener = new TcpListener(IPAddress.Parse(rules.Text("wire", "bind")), port);
        try { listener.Start(); }
        catch (SocketException taken) { throw new Dark(53, "port " + port + " is taken: " + taken.Message); }
        return listener;
    }

    void Serve(TcpListener listener)
    {
        while (!closing)
        {
            if (!listener.Pending()) { Thread.Sleep(10); continue; } // a thread that waits inside dies badly at the end
            TcpClient client = listener.AcceptTcpClient();
            ThreadPool.QueueUserWorkItem(delegate
            {
                try
                {
                    client.ReceiveTimeout = 5000;
                    using (client)
                    using (var reader = new StreamReader(client.GetStream()))
                    using (var writer = new StreamWriter(client.GetStream()))
                    {
                        foreach (string line in Answer(reader.ReadLine() ?? "")) writer.Write(line + "\n");
                        writer.Write("end\n");
                    }
                }
                catch (IOException) { }
            });
        }
    }

    IEnumerable<string> Answer(string asked)
    {
        string[] words = asked.Split(' ');
        if (words[0] == "peek")
        {
            yield return "sign " + rules.Text("sign", "title");
            yield return "gloamwick " + version;
            yield return "loader " + Loader;
            yield return "seats " + seated.Count + " " + rules.Number("door", "seats", 1, 40);
            foreach (Lit one in lit) yield return "piece " + one.Id + " " + one.Version + " " + one.Who;
        }
        else yield return words[0] == "enter" && words.Length == 4 ? Enter(words[1], words[2], words[3]) : "pardon?";
    }

    string Enter(string name, string word, string carried)
    {
        var mine = new HashSet<string>(carried.Split(','));
        foreach (Lit one in lit)
            if (one.Who == "everybody" && !mine.Contains(one.Id + "=" + one.Version))
                return "turned-away " + one.Id + " " + one.Version + " is not in your lantern";
        string wanted = rules.Text("door", "word");
        if (wanted != "" && word != wanted) return "turned-away wrong word";
        if (rules.Flag("door", "guestsOnly") && !rules.Names("door", "guests").Contains(name)) return "turned-away no guest";
        lock (seated)
        {
            if (seated.Count >= rules.Number("door", "seats", 1, 40)) return "turned-away no seat is left";
            seated.Add(name);
        }
        Tell(name + " takes a seat");
        return "welcome " + name;
    }

    void Talk()
    {
        string line;
        while ((line = Console.In.ReadLine()) != null)
        {
            line = line.Trim();
            if (line == "douse") return;
            if (line == "seats") Tell("seated: " + (seated.Count == 0 ? "nobody" : string.Join(", ", seated)));
            else if (line == "hush") { Keep(); hushed = true; Tell("hushed"); }
            else if (line == "murmur") { hushed = false; Tell("murmuring"); }
            else if (line != "") Tell("nobody understands '" + line + "'");
        }
        Thread.Sleep(Timeout.Infinite);
    }
}
