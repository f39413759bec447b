using KeenLantern.Record;
using Microsoft.EntityFrameworkCore;

namespace Gallery;

internal sealed class Sighting
{
    public int Id { get; set; }
}

internal class Diary(DbContextOptions options) : DbContext(options)
{
    public DbSet<Sighting> Sightings => Set<Sighting>();
}

internal sealed class BirdDiary(DbContextOptions<BirdDiary> options) : Diary(options);

internal sealed class SealDiary(DbContextOptions<SealDiary> options) : Diary(options);

internal sealed class Warden(BirdDiary birds) : Counted
{
    public Task<int> Count() => birds.Sightings.CountAsync();
}

/// <summary>The diaries of a nature reserve, on real files.</summary>
internal static class Databases
{
    // A singleton keeps the context of the first request that asked.
    public static async Task Contexts(Recorder recorder, bool mistaken)
    {
        using var file = new TemporaryFile();
        await Applications.Web(
            recorder,
            services =>
            {
                services.AddDbContext<BirdDiary>(options => options.UseSqlite(file.Source));
                services.AddDbContextFactory<SealDiary>(options => options.UseSqlite(file.Source));
                services.Add(new ServiceDescriptor(typeof(Warden), typeof(Warden), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
            },
            app =>
            {
                app.MapGet("/birds", async (BirdDiary birds) => await birds.Database.EnsureCreatedAsync());
                app.MapGet("/count", async (Warden warden) => await warden.Count());
                app.MapGet("/seals", async (IDbContextFactory<SealDiary> diaries) =>
                {
                    await using SealDiary seals = await diaries.CreateDbContextAsync();
                    return await seals.Sightings.CountAsync();
                });
            },
            8,
            "/birds",
            "/count",
            "/seals");
    }

    // Contexts that are leased from a pool.
    public static async Task Pool(Recorder recorder, bool mistaken)
    {
        using var file = new TemporaryFile();
        await Applications.Web(
            recorder,
            services =>
            {
                services.AddDbContextPool<BirdDiary>(options => options.UseSqlite(file.Source));
                services.Add(new ServiceDescriptor(typeof(Warden), typeof(Warden), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
            },
            app =>
            {
                app.MapGet("/birds", async (BirdDiary birds) => await birds.Database.EnsureCreatedAsync());
                app.MapGet("/count", async (Warden warden) => await warden.Count());
            },
            8,
            "/birds",
            "/count");
    }

    private sealed class TemporaryFile : IDisposable
    {
        private readonly string path = Path.GetTempFileName();

        public string Source => $"Data Source={path};Pooling=False";

        public void Dispose() => File.Delete(path);
    }
}
