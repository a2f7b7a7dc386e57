/** What is known of the application, for the next sensible step. */
export interface Facts {
  readonly version: number | null;
  /** Is something being written that is not in force? */
  readonly isChanged: boolean;
  readonly collections: readonly {
    readonly name: string;
    readonly isClosed: boolean;
    readonly isOwned: boolean;
    /** Records without an owner that nobody accepted. */
    readonly without: number;
  }[];
  readonly identities: number;
  readonly trials: number;
  /** Expectations that failed when it was published; null: its trials were not run. */
  readonly failed: number | null;
  readonly isSwept: boolean;
  readonly hasPeople: boolean;
}

export interface Step {
  readonly title: string;
  readonly why: string;
  readonly action: string;
  /** Null: there is nothing left. */
  readonly to: string | null;
}

/** The order of the work: collections, owners, rules, identities, publication, trials, owners of what is there, proof, people. */
export function nextStep(facts: Facts): Step {
  const { collections } = facts;
  const unowned = collections.find(({ isOwned, isClosed }) => !isOwned && isClosed);
  const closed = collections.find(({ isClosed }) => isClosed);
  const orphaned = collections.find(({ without }) => without > 0);
  if (collections.length === 0)
    return {
      title: 'Make a collection',
      why: 'A collection is a kind of record: its fields, and whose a record is.',
      action: 'To the collections',
      to: '/collections',
    };
  if (unowned !== undefined)
    return {
      title: `Say whose records of ${unowned.name} are`,
      why: 'Most rules speak of one’s own records. A field “ref people” and “owned by” say who owns one; or write rules that need no owner.',
      action: 'To the collection',
      to: `/collections/${unowned.name}`,
    };
  if (facts.identities < 2)
    return {
      title: 'Add two test identities',
      why: 'Rules are proved by looking through people. Two with the same role show whether each sees their own records alone.',
      action: 'To the collections',
      to: '/collections',
    };
  if (closed !== undefined)
    return {
      title: `Write who may do what with ${closed.name}`,
      why: 'It is closed: no sentence speaks of it, so nobody reads or changes anything.',
      action: 'To the bench',
      to: `/bench/${closed.name}`,
    };
  if (facts.isChanged || facts.version === null)
    return {
      title: 'Look at what changes, and publish it',
      why: 'Something is written that is not in force.',
      action: 'To the changes',
      to: '/changes',
    };
  if (facts.trials === 0)
    return {
      title: 'Keep a trial',
      why: 'A trial is what must stay so, and is tried before each publication. At the bench, try something as somebody, and keep it.',
      action: 'To the bench',
      to: `/bench/${collections[0]!.name}`,
    };
  if (facts.failed === null)
    return {
      title: 'Run the trials',
      why: 'The version in force was published without them.',
      action: 'To the trials',
      to: '/trials',
    };
  if (facts.failed > 0)
    return {
      title: `Put ${facts.failed} failing ${facts.failed === 1 ? 'expectation' : 'expectations'} right`,
      why: 'The version in force was published although trials failed.',
      action: 'To the trials',
      to: '/trials',
    };
  if (orphaned !== undefined)
    return {
      title: `Give ${orphaned.without} records of ${orphaned.name} an owner`,
      why: 'A record without an owner is seen by nobody whose rule asks for one.',
      action: 'To the owners',
      to: `/collections/${orphaned.name}`,
    };
  if (!facts.isSwept)
    return {
      title: 'Sweep what is in force',
      why: 'Every identity against every record, field and owner, compared with what requests answer.',
      action: 'To the sweep',
      to: '/sweep',
    };
  if (!facts.hasPeople)
    return {
      title: 'Invite people',
      why: 'The rules are in force, tried and swept. Nobody works with them yet.',
      action: 'To the people',
      to: '/people',
    };
  return {
    title: 'Nothing is left that this page knows of',
    why: 'Each collection has rules; these are in force, their trials were met, and they were swept: what that found is in its report.',
    action: '',
    to: null,
  };
}
