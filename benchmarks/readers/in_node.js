// Answers for node's parseArgs, commander, yargs and minimist: node in_node.js READER < requests > answers (see in_python.py).
const reader = process.argv[2];
const lines = require('fs').readFileSync(0, 'utf8').trim().split('\n');

class Refused extends Error {}
class Helped extends Error {}

const bare = (spelling) => spelling.replace(/^-+/, '');
const longOf = (option) => option.spellings.find((each) => each.startsWith('--'));
const shortOf = (option) => option.spellings.find((each) => !each.startsWith('--'));

function checked(kind, text, of) {
  if (kind === 'int') { if (!/^-?\d+$/.test(String(text))) throw new Refused('int'); return Number(text); }
  if (kind === 'float') { if (!/^-?\d+(\.\d+)?$/.test(String(text))) throw new Refused('float'); return Number(text); }
  if (kind === 'choice') { if (!of.includes(text)) throw new Refused('choice'); return text; }
  return text;
}

function bound(words, operands) {
  const least = operands.filter(([, count]) => count === 'one' || count === 'many').length;
  const most = operands.some(([, count]) => count === 'many' || count === 'any') ? 99 : operands.length;
  if (words.length < least || words.length > most) throw new Refused('operands');
  const found = {};
  let rest = [...words];
  operands.forEach(([name, count, kind], at) => {
    const behind = operands.slice(at + 1).filter(([, c]) => c === 'one' || c === 'many').length;
    if (count === 'one') found[name] = checked(kind, rest.shift());
    else if (count === 'optional') { if (rest.length > behind) found[name] = checked(kind, rest.shift()); }
    else { found[name] = rest.slice(0, rest.length - behind).map((each) => checked(kind, each)); rest = rest.slice(rest.length - behind); }
  });
  return found;
}

const makers = {
  'node-parseargs': (request) => {
    const { parseArgs } = require('node:util');
    const options = {};
    for (const option of request.options) {
      options[bare(longOf(option))] = { type: option.type === null ? 'boolean' : 'string',
        ...(shortOf(option) ? { short: bare(shortOf(option)) } : {}) };
    }
    options.help = { type: 'boolean', short: 'h' };
    return (words) => {
      let read;
      try { read = parseArgs({ args: words, options, allowPositionals: true, strict: true }); } catch (error) { throw new Refused(error.message); }
      if (read.values.help) throw new Helped();
      const found = {};
      for (const option of request.options) {
        const value = read.values[bare(longOf(option))];
        if (value !== undefined) found[option.name] = option.type === null ? value : checked(option.type, value, option.of);
      }
      return { ...found, ...bound(read.positionals, request.operands) };
    };
  },
  commander: (request) => {
    const { Command, Option, Argument, InvalidArgumentError } = require('commander');
    const number = (kind) => (text) => { try { return checked(kind, text); } catch { throw new InvalidArgumentError('no number'); } };
    return (words) => {
      const program = new Command('p').exitOverride().configureOutput({ writeOut: () => {}, writeErr: () => {} });
      for (const option of request.options) {
        const made = new Option(option.spellings.join(', ') + (option.type === null ? '' : ' <value>'));
        if (option.type === 'choice') made.choices(option.of);
        if (option.type === 'int' || option.type === 'float') made.argParser(number(option.type));
        program.addOption(made);
      }
      for (const [name, count, kind] of request.operands) {
        const text = { one: `<${name}>`, optional: `[${name}]`, many: `<${name}...>`, any: `[${name}...]` }[count];
        const argument = new Argument(text);
        if (kind === 'int') argument.argParser((each, before) => (count === 'many' || count === 'any' ? [...(before || []), number('int')(each)] : number('int')(each)));
        program.addArgument(argument);
      }
      program.action(() => {});
      try { program.parse(words, { from: 'user' }); } catch (error) {
        if (error.code === 'commander.helpDisplayed') throw new Helped();
        if (error.exitCode !== undefined) { const refused = new Refused(error.message); refused.status = error.exitCode; throw refused; }
        throw error;
      }
      const found = {};
      const values = program.opts();
      for (const option of request.options) {
        const key = program.options.find((each) => option.spellings.includes(each.long) || option.spellings.includes(each.short)).attributeName();
        if (values[key] !== undefined) found[option.name] = values[key];
      }
      request.operands.forEach(([name], at) => { if (program.processedArgs[at] !== undefined) found[name] = program.processedArgs[at]; });
      return found;
    };
  },
  yargs: (request) => {
    const yargs = require('yargs');
    const longest = (option) => option.spellings.map(bare).sort((a, b) => b.length - a.length);
    return (words) => {
      let helped = false;
      const parser = yargs().scriptName('p').exitProcess(false).version(false).strictOptions()
        .fail((message, error) => { throw new Refused(message || String(error)); });
      for (const option of request.options) {
        const [first, ...others] = longest(option);
        const type = option.type === null ? 'boolean' : option.type === 'int' || option.type === 'float' ? 'number' : 'string';
        parser.option(first, { alias: others, type, requiresArg: option.type !== null, ...(option.type === 'choice' ? { choices: option.of } : {}) });
      }
      const read = parser.parse(words, (error, argv, output) => { if (output) helped = true; });
      if (helped) throw new Helped();
      const found = {};
      for (const option of request.options) {
        const value = read[longest(option)[0]];
        if (value === undefined || value === false) continue;
        if (option.type === 'int' && ![].concat(value).every(Number.isInteger)) throw new Refused('int');
        if (option.type === 'float' && ![].concat(value).every(Number.isFinite)) throw new Refused('float');
        found[option.name] = value;
      }
      return { ...found, ...bound(read._.map(String), request.operands) };
    };
  },
  minimist: (request) => {
    const minimist = require('minimist');
    const shape = { string: ['_'], boolean: ['help'], alias: { help: 'h' } };
    for (const option of request.options) {
      const [first, ...others] = option.spellings.map(bare).sort((a, b) => b.length - a.length);
      shape[option.type === null ? 'boolean' : 'string'].push(first);
      if (others.length) shape.alias[first] = others;
    }
    return (words) => {
      const read = minimist(words, shape);
      if (read.help) throw new Helped();
      const found = {};
      for (const option of request.options) {
        const key = option.spellings.map(bare).sort((a, b) => b.length - a.length)[0];
        const value = read[key];
        if (value !== undefined && value !== false && !(option.type === null && !value)) {
          found[option.name] = option.type === null ? Boolean(value) : Array.isArray(value) ? value.map((each) => checked(option.type, each, option.of)) : checked(option.type, value, option.of);
        }
      }
      return { ...found, ...bound(read._, request.operands) };
    };
  },
};

for (const line of lines) {
  const request = JSON.parse(line);
  const parse = makers[reader](request);
  const answers = request.vectors.map((words) => {
    try {
      const found = Object.fromEntries(Object.entries(parse(words)).filter(([, each]) => each !== false && !(Array.isArray(each) && !each.length)));
      return [0, '', found];
    } catch (error) {
      if (error instanceof Helped) return [0, 'stdout', null];
      if (error instanceof Refused) return [error.status ?? 1, 'stderr', null];
      return [70, String(error), null];
    }
  });
  console.log(JSON.stringify(answers));
}
