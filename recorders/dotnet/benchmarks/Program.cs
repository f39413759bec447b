// Measures what recording costs, with ratios against a baseline of the same run:
//
//     dotnet run -c Release --project benchmarks -- office [--container NAME] [--service URL]   requests, in processes of their own
//     dotnet run -c Release --project benchmarks -- scopes                                      a scope with six instances
//     dotnet run -c Release --project benchmarks -- noting                                      noting an event, against a log line
using KeenLantern.Benchmarks;

switch (args.FirstOrDefault())
{
    case "office":
        string Option(string name, string otherwise)
        {
            int at = Array.IndexOf(args, "--" + name);
            return at >= 0 && at + 1 < args.Length ? args[at + 1] : otherwise;
        }

        await Office.Measure(Option("container", "default"), Option("service", "http://127.0.0.1:7460"));
        return 0;
    case "scopes":
        Scopes.Measure();
        return 0;
    case "noting":
        Noting.Measure();
        return 0;
    default:
        Console.Error.WriteLine("usage: KeenLantern.Benchmarks office [--container NAME] [--service URL] | scopes | noting");
        return 2;
}
