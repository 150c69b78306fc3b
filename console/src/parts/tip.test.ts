import { expect, test } from 'vitest';
import { place } from './tip';

test('a tip stays within the window, and off the pointer', () => {
  const room = { width: 400, height: 300 };
  expect(place(10, 10, 100, 20, room)).toEqual({ left: 22, top: 28 });
  expect(place(390, 10, 100, 20, room)).toEqual({ left: 296, top: 28 });
  expect(place(10, 290, 100, 20, room)).toEqual({ left: 22, top: 260 });
  expect(place(10, 10, 900, 20, room).left).toBe(4);
});
