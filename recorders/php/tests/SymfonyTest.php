<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use KeenLantern\Record\Symfony\RecordingPass;
use Saltmarsh\Harbour\{Board, Clock, Desk, GaugeTides, Page, Planner, RoundedTides, Tides};
use PHPUnit\Framework\TestCase;
use Symfony\Component\DependencyInjection\Argument\TaggedIteratorArgument;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\ContainerInterface;
use Symfony\Component\DependencyInjection\Dumper\PhpDumper;
use Symfony\Component\DependencyInjection\Reference;

final class SymfonyTest extends TestCase
{
    use WithFolder;

    private ContainerBuilder $builder;
    private ?ContainerInterface $container = null;

    protected function setUp(): void
    {
        $this->makeFolder();
        $this->builder = new ContainerBuilder();
        $this->builder->register(Recorder::class)->setFactory([self::class, 'recorder'])->setArguments([$this->folder]);
        RecordingPass::addTo($this->builder);
    }

    protected function tearDown(): void
    {
        $this->container->get(Recorder::class)->end();
        $this->dropFolder();
    }

    public static function recorder(string $folder): Recorder
    {
        return new Recorder(new Settings('harbour', $folder));
    }

    /** Compiles the container, writes it down as PHP, and returns what that makes: as it is in production. */
    private function compiled(): ContainerInterface
    {
        $this->builder->compile();
        $class = 'Container' . bin2hex(random_bytes(6));
        file_put_contents("$this->folder/$class.php", (new PhpDumper($this->builder))->dump(['class' => $class]));
        require "$this->folder/$class.php";
        unlink("$this->folder/$class.php");
        return $this->container = new $class();
    }

    /** @return list<array<string, mixed>> */
    private function told(string $kind): array
    {
        $this->container->get(Recorder::class)->end();
        $lines = array_map(static fn (string $line): array => json_decode($line, true), file(glob($this->folder . '/*')[0]));
        return array_values(array_filter($lines, static fn (array $line): bool => $line['ev'] === $kind));
    }

    private static function short(string $name): string
    {
        return basename(str_replace('\\', '/', $name));
    }

    /** @return list<array{string, string, list<mixed>}> of each make: its service, its class, the classes of what it was given */
    private function built(): array
    {
        $regs = array_column($this->told('register'), null, 'reg');
        $makes = array_column($this->told('make'), null, 'inst');
        $name = static fn (mixed $inst): mixed => is_array($inst)
            ? array_map(static fn (int $one): string => self::short($makes[$one]['impl']), $inst)
            : self::short($makes[$inst]['impl']);
        return array_map(static fn (array $make): array => [
            self::short($regs[$make['reg']]['service']), self::short($make['impl']), array_map($name, $make['with'] ?? []),
        ], array_values($makes));
    }

    public function testWhatIsBuiltForWhom(): void
    {
        foreach ([Clock::class, GaugeTides::class, Planner::class, Desk::class] as $class) {
            $this->builder->autowire($class)->setPublic($class === Desk::class);
        }
        $this->builder->autowire(Page::class)->setShared(false);
        $this->builder->setAlias(Tides::class, GaugeTides::class);
        $container = $this->compiled();
        self::assertSame($container->get(Desk::class), $container->get(Desk::class));
        self::assertSame([
            ['Clock', 'Clock', []],
            ['Tides', 'GaugeTides', ['Clock']], // it is asked for by the interface
            ['Planner', 'Planner', ['GaugeTides', 'Clock']],
            ['Page', 'Page', []],
            ['Desk', 'Desk', ['Planner', 'Page']],
        ], $this->built());
        $regs = array_column($this->told('register'), null, 'service');
        self::assertSame('transient', $regs[Page::class]['lifetime']);
        self::assertSame('singleton', $regs[Clock::class]['lifetime']);
        self::assertSame([['service' => GaugeTides::class]], $regs[Tides::class]['also']);
        self::assertArrayNotHasKey('sees', $regs[Clock::class]);
        self::assertNotContains('shared', $regs[Desk::class]['sees'], 'requests for it are not seen');
    }

    /** Decorators stand around each other by their priority, under the name of what they decorate. */
    public function testDecorators(): void
    {
        $this->builder->autowire(Clock::class);
        $this->builder->autowire(Tides::class, GaugeTides::class)->setPublic(true);
        foreach (['outer' => 1, 'inner' => 5] as $id => $priority) {
            $this->builder->register($id, RoundedTides::class)->setDecoratedService(Tides::class, null, $priority)
                ->setArguments([new Reference("$id.inner")]);
        }
        $this->compiled()->get(Tides::class);
        self::assertSame([
            ['Clock', 'Clock', []],
            ['Tides', 'GaugeTides', ['Clock']],
            ['Tides', 'RoundedTides', ['GaugeTides']],
            ['Tides', 'RoundedTides', ['RoundedTides']],
        ], $this->built());
        $regs = array_column($this->told('register'), null, 'reg');
        $makes = $this->told('make');
        self::assertSame($makes[2]['reg'], $regs[$makes[3]['reg']]['wraps']);
        self::assertSame($makes[1]['reg'], $regs[$makes[2]['reg']]['wraps']);
        self::assertSame([Tides::class], array_values(array_unique(array_column(array_slice($regs, 1), 'service'))));
    }

    /** What has a tag is built when it is first asked for, and recorded as it is handed out; what setters give is recorded as well. */
    public function testTagsAndSetters(): void
    {
        foreach ([Clock::class, Page::class] as $class) {
            $this->builder->register($class)->addTag('part');
        }
        $this->builder->register(Board::class)->setPublic(true)
            ->setArguments([new TaggedIteratorArgument('part')])
            ->addMethodCall('setClock', [new Reference(Clock::class)])
            ->setConfigurator([self::class, 'configure']);
        $board = $this->compiled()->get(Board::class);
        self::assertSame('configured', $board->title);
        self::assertInstanceOf(Clock::class, $board->clock);
        self::assertCount(2, $board->parts);
        self::assertSame([Clock::class, Page::class], array_map(get_class(...), iterator_to_array($board->parts, false)));
        $recorder = $this->container->get(Recorder::class);
        $is = $recorder->idOf($board);
        self::assertSame([
            [$recorder->idOf($board->clock), $is, 'property', null],
            [$recorder->idOf($board->clock), $is, 'provider', true],
            [$recorder->idOf(iterator_to_array($board->parts, false)[1]), $is, 'provider', true],
        ], array_slice(array_map(
            static fn (array $give): array => [$give['inst'], $give['to'] ?? 0, $give['how'], $give['all'] ?? null],
            $this->told('give'),
        ), 0, 3));
    }

    public static function configure(Board $board): void
    {
        $board->title = 'configured';
    }

    public static function broken(): Clock
    {
        throw new \LogicException('a secret of the harbour');
    }

    /** What a factory throws reaches the application as it is, and its words are not written down. */
    public function testFailures(): void
    {
        $this->builder->register(Clock::class)->setFactory([self::class, 'broken']);
        $this->builder->autowire(GaugeTides::class)->setPublic(true);
        $container = $this->compiled();
        try {
            $container->get(GaugeTides::class);
            self::fail('nothing was thrown');
        } catch (\LogicException $e) {
            self::assertSame('a secret of the harbour', $e->getMessage());
        }
        $fails = $this->told('fail');
        self::assertSame([[Clock::class], ['error']], [array_column($fails, 'service'), array_column($fails, 'why')]);
        self::assertStringNotContainsString('secret', (string) file_get_contents(glob($this->folder . '/*')[0]));
    }

    /** A container that is reset releases what it has built: the next one is no second of one kind. */
    public function testReset(): void
    {
        $this->builder->register(Clock::class)->setPublic(true);
        $container = $this->compiled();
        $recorder = $container->get(Recorder::class);
        $first = $container->get(Clock::class);
        $container->reset();
        $recorder->end();
        $kinds = array_column(array_map(static fn (string $line): array => json_decode($line, true), file(glob($this->folder . '/*')[0])), 'ev');
        self::assertSame(['hello', 'register', 'make', 'forget', 'bye'], $kinds);
        self::assertNotSame($first, $container->get(Clock::class));
    }

    /** A service with the pass's tag is left alone, and so is everything while nothing is recorded. */
    public function testLeftAlone(): void
    {
        touch($this->folder . '/' . Settings::OFF_FILE);
        $this->builder->register(Clock::class)->setPublic(true);
        $this->builder->autowire(GaugeTides::class)->setPublic(true)->addTag(RecordingPass::UNRECORDED);
        $container = $this->compiled();
        self::assertInstanceOf(GaugeTides::class, $container->get(GaugeTides::class));
        $container->get(Recorder::class)->end();
        self::assertSame([], glob($this->folder . '/*.ndjson'));
        self::assertFalse($this->builder->getDefinition(GaugeTides::class)->getFactory() !== null);
        self::assertNotNull($this->builder->getDefinition(Clock::class)->getFactory());
    }
}
