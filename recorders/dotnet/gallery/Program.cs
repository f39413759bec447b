// Runs one small application under the recorder, sound or with the mistake that people make there, and prints what it counted:
//
//     dotnet KeenLantern.Gallery.dll NAME --output FILE [--mistaken]
using System.Text.Json;
using Gallery;
using KeenLantern.Record;

int at = Array.IndexOf(args, "--output");
if (args.Length == 0 || at < 0 || at + 1 >= args.Length || !Applications.All.TryGetValue(args[0], out var run))
{
    Console.Error.WriteLine($"usage: KeenLantern.Gallery NAME --output FILE [--mistaken]; NAME is one of {string.Join(", ", Applications.All.Keys)}");
    return 2;
}

using (var recorder = new Recorder(new RecorderOptions
{
    App = "gallery-" + args[0],
    Environment = "production",
    File = args[at + 1],
    Problem = problem => Console.Error.WriteLine(problem),
}))
{
    await run(recorder, args.Contains("--mistaken"));
}

Console.WriteLine(JsonSerializer.Serialize(new { made = Counts.Made, disposed = Counts.Disposed }));
return 0;
