//! The readable reference: multiplication by logarithms, and sums of products byte by byte.
//!
//! # Source
//! J. S. Plank, "A Tutorial on Reed-Solomon Coding for Fault-Tolerance in RAID-like Systems": tables of
//! logarithms to the generator 2.

const POLYNOMIAL: u16 = 0x11D;

struct Tables {
    log: [u8; 256],
    exp: [u8; 512],
}

const fn tables() -> Tables {
    let mut log = [0u8; 256];
    let mut exp = [0u8; 512];
    let mut value: u16 = 1;
    let mut power = 0;
    while power < 255 {
        exp[power] = value as u8;
        exp[power + 255] = value as u8;
        log[value as usize] = power as u8;
        value <<= 1;
        if value & 0x100 != 0 {
            value ^= POLYNOMIAL;
        }
        power += 1;
    }
    Tables { log, exp }
}

static TABLES: Tables = tables();

/// The product of two field elements.
pub const fn mul(a: u8, b: u8) -> u8 {
    if a == 0 || b == 0 {
        return 0;
    }
    TABLES.exp[TABLES.log[a as usize] as usize + TABLES.log[b as usize] as usize]
}

/// The multiplicative inverse; zero has none.
pub const fn inverse(a: u8) -> Option<u8> {
    if a == 0 { None } else { Some(TABLES.exp[255 - TABLES.log[a as usize] as usize]) }
}

/// Adds `coefficient` times `source` to `target`, byte by byte. Both have the same length.
pub fn mul_add(target: &mut [u8], source: &[u8], coefficient: u8) {
    assert_eq!(target.len(), source.len(), "lanes of a row have one length");
    match coefficient {
        0 => {}
        1 => target.iter_mut().zip(source).for_each(|(t, s)| *t ^= s),
        _ => {
            let products: [u8; 256] = std::array::from_fn(|value| mul(coefficient, value as u8));
            target.iter_mut().zip(source).for_each(|(t, s)| *t ^= products[usize::from(*s)]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Multiplication bit by bit, straight from the definition.
    fn slow(mut a: u8, mut b: u8) -> u8 {
        let mut product = 0;
        while b != 0 {
            if b & 1 != 0 {
                product ^= a;
            }
            a = (a << 1) ^ if a & 0x80 != 0 { (POLYNOMIAL & 0xFF) as u8 } else { 0 };
            b >>= 1;
        }
        product
    }

    #[test]
    fn the_field_laws_hold_for_all_pairs() {
        for a in 0..=255u8 {
            for b in 0..=255u8 {
                assert_eq!(mul(a, b), slow(a, b));
                assert_eq!(mul(a, b), mul(b, a));
                assert_eq!(mul(a, b ^ 0x5A), mul(a, b) ^ mul(a, 0x5A));
            }
            assert_eq!(inverse(a).map(|i| mul(a, i)), (a != 0).then_some(1));
        }
    }

    #[test]
    fn mul_add_is_multiplication_of_each_byte() {
        let source: Vec<u8> = (0..=255).collect();
        for coefficient in 0..=255u8 {
            let mut target = vec![0xC3; 256];
            mul_add(&mut target, &source, coefficient);
            assert!(target.iter().zip(&source).all(|(t, s)| *t == 0xC3 ^ mul(coefficient, *s)));
        }
    }
}
