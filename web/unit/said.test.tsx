import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { plural, t } from '@lingui/core/macro';
import { compileMessage } from '@lingui/message-utils/compileMessage';
import { generateMessageId } from '@lingui/message-utils/generateMessageId';
import { Trans } from '@lingui/react/macro';
import { render, screen } from '@testing-library/react';
import PO from 'pofile';
import ts from 'typescript';
import { afterEach, describe, expect, it } from 'vitest';
import { chosenFrom, i18n } from '../src/texts';

const src = join(import.meta.dirname, '../src');
const english = { locale: 'en', locales: ['en'], messages: {} };
afterEach(() => i18n.loadAndActivate(english));

// Attributes, properties and arguments in which what stands is read by somebody.
const attributes =
  /^(title|label|aria-label|placeholder|help|act|done|text|head|alt|empty|description|says|nothing|addLabel)$/;
const properties = /^(head|title|done|text|label|says|words|does|means|help|nothing|message|explains)$/;
const calls =
  /^(say|sayMade)#0$|\.(min|regex|refine|startsWith|email|max)#1$|^(row)#[01]$|^option#0$|^tile#[13]$|^step#[235]$/;
// The same in every language: names of protocols, formats, systems and keys, and the standard's own short words.
const names = /^(rw|ro|uid|gid|SMB|NFS|macOS|Windows|Linux|Ctrl|UTC|CSV|LDIF|JSON|SID|B|kB|[A-Za-z])$/;
// Words of the service and the browser that happen to be two, lines of commands, and looks.
const others =
  /^(no codes|read and add|host set|grace (ending|begun|over)|in grace|to mind|signing in|blocked by a parent|number map|server name|host set rule|export rule|share entry|amber as of)$|^(folder|share|export|limit|rule) (add|set|rule)|^(why|\/why)\?|var\(--|\dpx|^\(prefers|^2px|linear-gradient|^cell shade/;

/** Where a text stands that is not marked as one. */
function unmarked(file: string) {
  const tree = ts.createSourceFile(file, readFileSync(file, 'utf8'), ts.ScriptTarget.Latest, true);
  const found: string[] = [];
  const tell = (n: ts.Node, what: string) =>
    found.push(`${file.slice(src.length + 1)}:${tree.getLineAndCharacterOfPosition(n.getStart()).line + 1} ${what}`);
  const letters = (s: string) => /\p{L}/u.test(s) && !names.test(s.trim());
  const spoken = (e?: ts.Node): void => {
    if (!e) return;
    if (ts.isStringLiteral(e) || ts.isNoSubstitutionTemplateLiteral(e)) {
      if (letters(e.text)) tell(e, e.text);
    } else if (ts.isTemplateExpression(e)) {
      if (letters([e.head, ...e.templateSpans.map((s) => s.literal)].map((l) => l.text).join(' ')))
        tell(e, e.getText());
    } else if (ts.isConditionalExpression(e)) {
      spoken(e.whenTrue);
      spoken(e.whenFalse);
    } else if (ts.isParenthesizedExpression(e)) spoken(e.expression);
    else if (ts.isBinaryExpression(e) && /^(&&|\|\||\?\?|\+)$/.test(e.operatorToken.getText())) {
      if (e.operatorToken.getText() !== '&&') spoken(e.left);
      spoken(e.right);
    }
  };
  const visit = (n: ts.Node): void => {
    if (ts.isImportDeclaration(n) || ts.isTypeNode(n) || ts.isExportDeclaration(n)) return;
    if (ts.isTaggedTemplateExpression(n) && n.tag.getText() === 't') {
      if (ts.isTemplateExpression(n.template)) for (const s of n.template.templateSpans) visit(s.expression);
      return;
    }
    if (ts.isCallExpression(n)) {
      if (n.expression.getText() === 'plural') return;
      n.arguments.forEach((a, i) => {
        if (calls.test(`${n.expression.getText().replace(/\s+/g, '')}#${i}`)) spoken(a);
      });
    }
    if (ts.isJsxSelfClosingElement(n) && n.tagName.getText() === 'Plural') return;
    if (ts.isJsxElement(n) && n.openingElement.tagName.getText() === 'Trans') {
      const inside = (k: ts.Node): void => {
        if (ts.isJsxExpression(k) || ts.isJsxAttribute(k)) visit(k);
        else ts.forEachChild(k, inside);
      };
      n.children.forEach(inside);
      return;
    }
    if (ts.isJsxText(n) && letters(n.text)) tell(n, n.text.trim());
    if (ts.isJsxExpression(n) && !ts.isJsxAttribute(n.parent)) spoken(n.expression);
    if (ts.isJsxAttribute(n) && n.initializer) {
      const said =
        attributes.test(n.name.getText()) ||
        (n.name.getText() === 'name' && n.parent.parent.getText().startsWith('<Fact'));
      if (said) spoken(ts.isJsxExpression(n.initializer) ? n.initializer.expression : n.initializer);
    }
    if (ts.isPropertyAssignment(n) && properties.test(n.name.getText())) spoken(n.initializer);
    const literal = ts.isTemplateExpression(n)
      ? [n.head, ...n.templateSpans.map((p) => p.literal)].map((l) => l.text).join('\u2026')
      : ts.isStringLiteral(n) || ts.isNoSubstitutionTemplateLiteral(n)
        ? n.text
        : '';
    const words = ts.isTemplateExpression(n) ? /(^|\s)\p{Ll}{2,}[,.:;?]?(\s|$)/u : /^[^/]*\p{L}{2,}[,.:;]? \p{L}/u;
    if (words.test(literal) && !others.test(literal)) tell(n, n.getText());
    ts.forEachChild(n, visit);
  };
  visit(tree);
  return found;
}

describe('the texts', () => {
  it('are all marked, so that they are in the catalogue', () => {
    const files = readdirSync(src, { recursive: true, encoding: 'utf8' }).filter(
      (f) => /\.tsx?$/.test(f) && !/\.gen\.ts$|^theme/.test(f),
    );
    expect(files.length).toBeGreaterThan(60);
    expect([...new Set(files.flatMap((f) => unmarked(join(src, f))))]).toEqual([]);
  });
  it('of the catalogue can all be read', () => {
    const { items } = PO.parse(readFileSync(join(src, 'texts/en.po'), 'utf8'));
    expect(items.length).toBeGreaterThan(1000);
    for (const one of items) expect(() => compileMessage(one.msgid), one.msgid).not.toThrow();
  });
  it('show what is filled in as it is, whatever it looks like', () => {
    for (const name of [
      'a\\u202eb',
      '\\x1b[31m',
      '\\U000e0041',
      '<0>x</0>',
      '{0}',
      '#',
      '%__lingui_octothorpe__%',
      '\\',
      '',
    ]) {
      expect(t`Remove ${name}?`).toBe(`Remove ${name}?`);
      const { container, unmount } = render(
        <Trans>
          <b>Remove</b> {name}, all {2}
        </Trans>,
      );
      expect(container.textContent).toBe(`Remove ${name}, all 2`);
      unmount();
    }
  });
  it('count', () => {
    const people = (n: number) => plural(n, { one: '# person', other: '# people' });
    expect([0, 1, 2, 1234].map(people)).toEqual(['0 people', '1 person', '2 people', '1,234 people']);
  });
  it('come in the language that a reader asks for first, where there is one', () => {
    expect(chosenFrom(['de-AT', 'fr', 'en'], ['en', 'fr'])).toBe('fr');
    expect(chosenFrom(['de-AT'], ['de', 'en'])).toBe('de');
    expect(chosenFrom(['pt-BR'], ['en', 'pt', 'pt-BR'])).toBe('pt-BR');
    expect(chosenFrom([], ['en'])).toBe('en');
  });
  it('can be in another language, with what is filled in in its own order', () => {
    const messages = {
      [generateMessageId('Remove {name}?')]: '{name} entfernen?',
      [generateMessageId('<0>{who}</0> on {folder}')]: 'In {folder}: <0>{who}</0>',
    };
    i18n.loadAndActivate({ locale: 'de', locales: ['de'], messages });
    const name = 'plates';
    expect(t`Remove ${name}?`).toBe('plates entfernen?');
    const who = 'wren';
    const folder = 'nightlog';
    render(
      <p>
        <Trans>
          <b>{who}</b> on {folder}
        </Trans>
      </p>,
    );
    expect(screen.getByText('wren').parentElement?.textContent).toBe('In nightlog: wren');
    expect(t`Leave it`).toBe('Leave it'); // what is not translated yet is said in English
  });
});
