/** Where an application that is to be recorded finds this service. */
export interface Here {
  origin: string
  token: string // '' where none is wanted
  recorders: Record<string, string> // the address of each runtime's recorder
}

export interface Line {
  what: string
  how: string
}

/** How an application of one runtime, wired in one way, is recorded. */
export interface Way {
  runtime: string
  container: string
  lines: (here: Here) => Line[]
}

const goGet = (here: Here, path: string): Line => ({
  what: 'Add the recorder, as this service hands it out',
  how: `GOPROXY=${here.origin}${here.recorders.go ?? '/go'},$(go env GOPROXY) GONOSUMDB=keenlantern.example go get keenlantern.example/record${path}`,
})
const goStart = (here: Here): Line => ({
  what: 'Start it',
  how: `rec, err := record.Start(record.Config{App: "my-app", Service: "${here.origin}"${here.token ? `, Token: "${here.token}"` : ''}})`,
})
const npm = (here: Here): Line => ({
  what: 'Add the recorder, as this service hands it out',
  how: `npm install ${here.origin}${here.recorders.node ?? '/recorders/node/keenlantern-record.tgz'}`,
})
const nodeStart = (here: Here): Line => ({
  what: 'Start it',
  how: `const recorder = new Recorder({ app: 'my-app', service: '${here.origin}'${here.token ? `, token: '${here.token}'` : ''} })`,
})
const go = (container: string, path: string, what: string, how: string): Way => ({ runtime: 'Go', container, lines: (here) => [goGet(here, path), goStart(here), { what, how }] })
const node = (container: string, what: string, how: string): Way => ({ runtime: 'Node', container, lines: (here) => [npm(here), nodeStart(here), { what, how }] })

// The jar's address has the version in its last folder but one.
const version = (here: Here): string => here.recorders.jvm?.split('/').at(-2) ?? 'VERSION'
const jvm = (container: string, artifact: string, what: string, how: (here: Here) => string): Way => ({
  runtime: 'JVM',
  container,
  lines: (here) => [
    { what: 'Add this service as a Maven repository', how: `<repository><id>keenlantern</id><url>${here.origin}/maven</url></repository>` },
    { what: 'Add the recorder', how: `example.keenlantern:${artifact}:${version(here)}` },
    { what, how: how(here) },
  ],
})
const jvmStart = (here: Here): string =>
  `Recorder recorder = Recorder.forApplication("my-app").service("${here.origin}")${here.token ? `.token("${here.token}")` : ''}.start();`

const phpAdd = (here: Here) => ({
  what: 'Add the recorder, as this service hands it out',
  how: `${here.origin.startsWith('http:') ? 'composer config secure-http false && ' : ''}composer config repositories.lantern composer ${here.origin}/composer && composer require keenlantern/record`,
})
const phpSend = (here: Here) => ({
  what: 'Send on what is written',
  how: `${here.token ? `KEENLANTERN_TOKEN=${here.token} ` : ''}keenlantern follow /var/log/my-app --server ${here.origin}`,
})
// A process that answers one request records into a folder: it often ends before it could send anything itself.
const php = (container: string, what: string, how: string): Way => ({
  runtime: 'PHP',
  container,
  lines: (here) => [phpAdd(here), { what: 'Set in the environment', how: 'KEENLANTERN_FOLDER=/var/log/my-app' }, { what, how }, phpSend(here)],
})
const scopes = (kind: string) => `$scope = $recorder->open('${kind}', 'GET /route'); … $recorder->close($scope);`
const phpStart = (resident: string) =>
  `$recorder = new KeenLantern\\Record\\Recorder(KeenLantern\\Record\\Settings::fromEnvironment('my-app'${resident}));\n$container = new KeenLantern\\Record\\RecordedContainer($container, $recorder);\n`

// The package's address has the version in its last folder.
const dotnetVersion = (here: Here): string => here.recorders.dotnet?.split('/').at(-2) ?? 'VERSION'
const dotnet = (container: string, name: string, lines: (here: Here) => Line[]): Way => ({
  runtime: '.NET',
  container,
  lines: (here) => [
    {
      what: 'Add this service as a NuGet source',
      how: `dotnet nuget add source ${here.origin}/nuget/index.json --name keenlantern${here.origin.startsWith('http:') ? ' --allow-insecure-connections' : ''}`,
    },
    { what: 'Add the recorder', how: `dotnet add package ${name} --version ${dotnetVersion(here)}` },
    ...lines(here),
  ],
})
const dotnetSet = (here: Here): Line => ({
  what: 'Set in the environment',
  how: `KEENLANTERN_SERVICE=${here.origin}${here.token ? `\nKEENLANTERN_TOKEN=${here.token}` : ''}`,
})
const dotnetStart = (here: Here): string =>
  `using var recorder = new Recorder(new RecorderOptions { App = "my-app", Service = new Uri("${here.origin}")${here.token ? `, Token = "${here.token}"` : ''} });`

export const ways: Way[] = [
  go('samber/do', '/samberdo', 'Behind do.New', 'samberdo.Record(rec, root)'),
  go('uber-go/dig', '/uberdig', 'In place of dig.New()', 'c := uberdig.New(rec)'),
  go('uber-go/fx', '/uberfx', 'Before all other options of fx.New', 'uberfx.Record(rec),'),
  go('wired by hand', '', 'Provide and get through it', 'w := wired.New(rec)'),
  node('Nest', 'In place of NestFactory.create(AppModule)', "const app = await create(recorder, AppModule) // import { create } from 'keenlantern-record/nest'"),
  node('awilix', 'Around createContainer()', "const container = record(recorder, createContainer()) // import { record } from 'keenlantern-record/awilix'"),
  node('wired by hand', 'Provide and get through it', "const wiring = new Wiring(recorder) // import { Wiring } from 'keenlantern-record/wired'"),
  {
    runtime: 'Node',
    container: 'Nest or awilix, unchanged',
    lines: (here) => [
      {
        what: "Add the recorder beside the application's packages",
        how: `npm install --no-save ${here.origin}${here.recorders.node ?? '/recorders/node/keenlantern-record.tgz'} import-in-the-middle@3.6.0 require-in-the-middle@8.0.1`,
      },
      {
        what: 'Set in the environment of the application',
        how: `NODE_OPTIONS="--import keenlantern-record/attach"\nKEENLANTERN_SERVICE=${here.origin}${here.token ? `\nKEENLANTERN_TOKEN=${here.token}` : ''}`,
      },
    ],
  },
  {
    runtime: 'JVM',
    container: 'Spring Boot jar, unchanged',
    lines: (here) => [
      {
        what: 'Get the recorder',
        how: `mkdir -p /opt/keenlantern && cd /opt/keenlantern && for name in keenlantern-record keenlantern-record-spring; do curl -sO ${here.origin}/maven/example/keenlantern/$name/${version(here)}/$name-${version(here)}.jar; done`,
      },
      {
        what: "Start the application by Boot's own launcher",
        how: `java -Dloader.path=/opt/keenlantern -cp my-app.jar org.springframework.boot.loader.launch.PropertiesLauncher --keenlantern.service=${here.origin}${here.token ? ` --keenlantern.token=${here.token}` : ''}`,
      },
    ],
  },
  jvm('Spring Boot', 'keenlantern-record-spring', 'Set in application.properties', (here) => `keenlantern.service=${here.origin}${here.token ? `\nkeenlantern.token=${here.token}` : ''}`),
  jvm('Spring', 'keenlantern-record-spring', 'Before the context is refreshed', (here) => `${jvmStart(here)}\nSpringRecording.record(context, recorder);`),
  jvm('OSGi', 'keenlantern-record-osgi', 'Set as framework properties, and start its bundle and that of keenlantern-record before others', (here) => `keenlantern.application=my-app\nkeenlantern.service=${here.origin}${here.token ? `\nkeenlantern.token=${here.token}` : ''}`),
  jvm('wired by hand', 'keenlantern-record', 'Provide and get through it', (here) => `${jvmStart(here)}\nWiring wiring = new Wiring(recorder);`),
  php('Laravel', 'In place of Application in bootstrap/app.php; requests, jobs and commands are scopes by themselves', '$app = new KeenLantern\\Record\\Illuminate\\RecordedApplication(dirname(__DIR__));'),
  php('Symfony', "In the kernel's build method; requests are scopes by themselves", "KeenLantern\\Record\\Symfony\\RecordingPass::addTo($container, 'my-app');\n$container->autowire(KeenLantern\\Record\\Symfony\\RecordedRequests::class)->addTag('kernel.event_subscriber');"),
  php('PSR-11', 'Put it before the container, and open a scope for each request', phpStart('') + scopes('request')),
  php('a container by hand', 'Call it where the container resolves something, and open a scope for each request', `$recorder = new KeenLantern\\Record\\Recorder(KeenLantern\\Record\\Settings::fromEnvironment('my-app'));\n$wired = new KeenLantern\\Record\\Wired($recorder);\n${scopes('request')}\n// in place of $build() in the container's own method:\n$wired->resolve($name, $build, 'singleton')`),
  {
    runtime: '.NET',
    container: 'any host, unchanged',
    lines: (here) => [
      { what: 'Get the recorder', how: `mkdir -p /opt/keenlantern && curl -s ${here.origin}/nuget/start.tar.gz | tar xz -C /opt/keenlantern` },
      {
        what: 'Set in the environment of the application',
        how: `DOTNET_STARTUP_HOOKS=/opt/keenlantern/KeenLantern.Record.Start.dll\nKEENLANTERN_SERVICE=${here.origin}${here.token ? `\nKEENLANTERN_TOKEN=${here.token}` : ''}`,
      },
    ],
  },
  dotnet('web application', 'KeenLantern.Record.AspNetCore', (here) => [
    { what: 'After WebApplication.CreateBuilder', how: 'builder.AddKeenLantern(); // using KeenLantern.Record.AspNetCore' },
    dotnetSet(here),
  ]),
  dotnet('host', 'KeenLantern.Record.DependencyInjection', (here) => [
    { what: 'After Host.CreateApplicationBuilder', how: 'builder.AddKeenLantern(); // using KeenLantern.Record.DependencyInjection' },
    dotnetSet(here),
  ]),
  dotnet('Autofac', 'KeenLantern.Record.Autofac', (here) => [
    { what: 'Before the container is built', how: `${dotnetStart(here)}\ncontainerBuilder.RecordWith(recorder); // using KeenLantern.Record.Autofac` },
  ]),
  dotnet('service collection', 'KeenLantern.Record.DependencyInjection', (here) => [
    { what: 'In place of services.BuildServiceProvider()', how: `${dotnetStart(here)}\nusing var provider = services.BuildRecordedServiceProvider(recorder);` },
  ]),
  {
    runtime: 'PHP',
    container: 'PSR-11, a worker',
    lines: (here) => [
      phpAdd(here),
      { what: 'Set in the environment', how: `KEENLANTERN_SERVICE=${here.origin}${here.token ? `\nKEENLANTERN_TOKEN=${here.token}` : ''}` },
      { what: 'Put it before the container, and open a scope for each job', how: phpStart(', resident: true') + scopes('job') },
    ],
  },
]
