import { execFile } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';

const execute = promisify(execFile);

/** What the compiler says of programs in a folder; `firmgate/client` is the source itself, or what the package exports. */
export async function compiled(
  folder: string,
  files: Record<string, string>,
  from: 'source' | 'package' = 'source',
): Promise<string> {
  for (const [name, text] of Object.entries(files)) writeFileSync(join(folder, name), text);
  const { exports } = JSON.parse(readFileSync('package.json', 'utf8')) as {
    exports: Record<string, { types: string }>;
  };
  const options = {
    strict: true,
    noEmit: true,
    module: 'ESNext',
    moduleResolution: 'Bundler',
    target: 'ES2022',
    lib: ['ES2022', 'DOM', 'DOM.Iterable', 'DOM.AsyncIterable'],
    jsx: 'react-jsx',
    types: [],
    skipLibCheck: false,
    allowImportingTsExtensions: true,
    paths: {
      'firmgate/client': [resolve(from === 'source' ? 'src/client/index.ts' : exports['./client']!.types)],
      zod: [resolve('node_modules/zod')],
      react: [resolve('node_modules/@types/react')],
      'react/*': [resolve('node_modules/@types/react/*')],
      'react-dom/client': [resolve('node_modules/@types/react-dom/client.d.ts')],
    },
  };
  const config = { compilerOptions: options, include: ['*.ts', '*.tsx'] };
  writeFileSync(join(folder, 'tsconfig.json'), JSON.stringify(config));
  try {
    return (await execute('node_modules/.bin/tsc', ['-p', folder])).stdout;
  } catch (error) {
    return (error as { stdout: string }).stdout;
  }
}
