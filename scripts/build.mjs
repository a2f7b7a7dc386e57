// npm run build: compiles the sources and the console into dist/.
import { build, installPackages } from './lib/setup.mjs';

await installPackages();
await build();
