// Publishes a rulebook, and ends itself by SIGKILL before a statement, where it is told which: one number a message, `null` for none.
import { checkRulebook } from '../../dist/src/core/check/index.js';
import { atTheMachine } from '../../dist/src/store/audit/index.js';
import { connect, statements } from '../../dist/src/store/connection.js';
import { publish } from '../../dist/src/store/publish/index.js';

process.on('message', async ({ url, text, kill }) => {
  const checked = checkRulebook([{ name: 'a.gate', text }]);
  const database = connect({ url, poolSize: 4 });
  let count = 0;
  statements.before = () => {
    count++;
    if (count === kill) process.kill(process.pid, 'SIGKILL');
  };
  try {
    const { version, notes } = await publish(database, checked.rulebook, atTheMachine('test'));
    await database.destroy();
    process.send({ version, notes, count });
  } catch (error) {
    process.send({ error: String(error.problems ?? error.stack ?? error) });
  }
  process.disconnect();
});
