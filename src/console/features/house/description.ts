/** What the console shows of an OpenAPI 3.1 description: its operations, and the shapes that they speak of. */
export interface Description {
  readonly title: string;
  /** By tag, in the order of the description. */
  readonly groups: readonly {
    readonly name: string;
    readonly about: string;
    readonly operations: readonly Described[];
  }[];
  readonly shapes: ReadonlyMap<string, Shape>;
}

export interface Described {
  readonly id: string;
  readonly method: string;
  readonly path: string;
  readonly summary: string;
  /** Whoever has a token, and somebody without one. */
  readonly callers: 'anybody' | 'with a token';
  readonly parameters: readonly {
    readonly name: string;
    readonly place: string;
    readonly required: boolean;
    readonly about: string;
    readonly shape: string;
  }[];
  readonly body: {
    readonly types: readonly string[];
    readonly required: boolean;
    readonly shape: string;
  } | null;
  readonly answers: readonly { readonly status: string; readonly about: string; readonly shape: string }[];
}

/** A JSON schema, as far as it is shown. */
interface Shape {
  readonly $ref?: string;
  readonly type?: string | readonly string[];
  readonly format?: string;
  readonly description?: string;
  readonly enum?: readonly unknown[];
  readonly const?: unknown;
  readonly items?: Shape;
  readonly properties?: Readonly<Record<string, Shape>>;
  readonly required?: readonly string[];
  readonly additionalProperties?: boolean | Shape;
  readonly anyOf?: readonly Shape[];
  readonly oneOf?: readonly Shape[];
  readonly allOf?: readonly Shape[];
  readonly minimum?: number;
  readonly maximum?: number;
  readonly default?: string | number | boolean;
}

interface Content {
  readonly content?: Readonly<Record<string, { readonly schema?: Shape }>>;
}

interface Operation {
  readonly operationId: string;
  readonly summary?: string;
  readonly tags?: readonly string[];
  readonly security?: readonly object[];
  readonly parameters?: readonly Parameter[];
  readonly requestBody?: Content & { readonly required?: boolean };
  readonly responses?: Readonly<Record<string, Content & { readonly description?: string }>>;
}

interface Parameter {
  readonly name: string;
  readonly in: string;
  readonly required?: boolean;
  readonly description?: string;
  readonly schema?: Shape;
}

interface Source {
  readonly info: { readonly title: string };
  readonly tags?: readonly { readonly name: string; readonly description?: string }[];
  readonly paths: Readonly<
    Record<string, Readonly<Record<string, Operation>> & { readonly parameters?: readonly Parameter[] }>
  >;
  readonly components?: { readonly schemas?: Readonly<Record<string, Shape>> };
}

const methods = ['get', 'post', 'put', 'patch', 'delete'];

/** Reads one of the service’s own descriptions. */
export function readDescription(document: object): Description {
  const { info, tags = [], paths, components } = document as Source;
  const operations = Object.entries(paths).flatMap(([path, item]) =>
    methods
      .filter((method) => item[method] !== undefined)
      .map((method) => ({
        tag: item[method]!.tags?.[0] ?? '',
        described: described(path, method, item[method]!, item.parameters ?? []),
      })),
  );
  const about = new Map(tags.map(({ name, description }) => [name, description ?? '']));
  const names = [...new Set([...about.keys(), ...operations.map(({ tag }) => tag)])];
  return {
    title: info.title,
    groups: names
      .map((name) => ({
        name,
        about: about.get(name) ?? '',
        operations: operations.filter(({ tag }) => tag === name).map((each) => each.described),
      }))
      .filter((group) => group.operations.length > 0),
    shapes: new Map(Object.entries(components?.schemas ?? {})),
  };
}

function described(
  path: string,
  method: string,
  operation: Operation,
  shared: readonly Parameter[],
): Described {
  const {
    operationId,
    summary = '',
    security = [{}],
    parameters = [],
    requestBody,
    responses = {},
  } = operation;
  return {
    id: operationId,
    method: method.toUpperCase(),
    path,
    summary,
    callers: security.some((each) => Object.keys(each).length === 0) ? 'anybody' : 'with a token',
    parameters: [...shared, ...parameters].map((each) => ({
      name: each.name,
      place: each.in,
      required: each.required === true,
      about: [each.description ?? '', ...boundsOf(each.schema ?? {})]
        .filter((text) => text !== '')
        .join('; '),
      shape: shapeText(each.schema ?? {}),
    })),
    body:
      requestBody === undefined
        ? null
        : {
            types: Object.keys(requestBody.content ?? {}),
            required: requestBody.required === true,
            shape: shapeText(schemaOf(requestBody)),
          },
    answers: Object.entries(responses).map(([status, answer]) => ({
      status,
      about: answer.description ?? '',
      shape: answer.content === undefined ? '' : shapeText(schemaOf(answer)),
    })),
  };
}

function boundsOf({ minimum, maximum, default: unsaid }: Shape): string[] {
  return [
    ...(minimum === undefined || maximum === undefined ? [] : [`${minimum} to ${maximum}`]),
    ...(unsaid === undefined ? [] : [`${String(unsaid)} where it is left out`]),
  ];
}

function schemaOf({ content = {} }: Content): Shape {
  return Object.values(content)[0]?.schema ?? {};
}

/** A shape in few words: names of other shapes stay names. */
export function shapeText(shape: Shape, indent = ''): string {
  if (shape.$ref !== undefined) return shape.$ref.split('/').at(-1)!;
  if (shape.const !== undefined) return JSON.stringify(shape.const);
  if (shape.enum !== undefined) return shape.enum.map((each) => JSON.stringify(each)).join(' | ');
  const choices = shape.anyOf ?? shape.oneOf;
  if (choices !== undefined) return [...new Set(choices.map((each) => shapeText(each, indent)))].join(' | ');
  if (shape.allOf !== undefined) return shape.allOf.map((each) => shapeText(each, indent)).join(' & ');
  if (typeof shape.type === 'object')
    return shape.type.map((type) => shapeText({ ...shape, type }, indent)).join(' | ');
  switch (shape.type) {
    case 'array': {
      const items = shapeText(shape.items ?? {}, indent);
      return `${items.includes(' | ') && !items.startsWith('{') ? `(${items})` : items}[]`;
    }
    case 'object':
      return objectText(shape, indent);
    case 'string':
      return shape.format ?? 'string';
    case undefined:
      return 'anything';
    default:
      return shape.type;
  }
}

function objectText({ properties = {}, required = [], additionalProperties }: Shape, indent: string): string {
  const deeper = `${indent}  `;
  const lines = Object.entries(properties).map(([name, each]) => {
    const about = each.description === undefined ? '' : `  // ${each.description}`;
    return `${deeper}${name}${required.includes(name) ? '' : '?'}: ${shapeText(each, deeper)}${about}`;
  });
  if (typeof additionalProperties === 'object')
    lines.push(`${deeper}[name]: ${shapeText(additionalProperties, deeper)}`);
  return lines.length === 0 ? '{}' : `{\n${lines.join('\n')}\n${indent}}`;
}
